"""All checks of a plan on paper: by group, each with verdict, figures, arithmetic and source; and what to measure on site."""

from __future__ import annotations

from collections.abc import Sequence
from html import escape

from calm_relay.job.models import Job, Plan
from calm_relay.report.head import CAUTION, title_text
from calm_relay.report.measure import to_measure
from calm_relay.rules.groups import by_group
from calm_relay.rules.registry import VERDICT_ORDER, Finding
from calm_relay.units import count_words

STYLE = (
    "body{font-family:sans-serif;font-size:9pt} h1{font-size:15pt} h2{font-size:11pt;margin:10pt 0 2pt} "
    "td,th{text-align:left;vertical-align:top;padding:2pt 6pt 2pt 0} .q{color:#555}"
)


def tally_words(findings: Sequence[Finding]) -> str:
    """Return how many findings have each verdict, in words."""
    counts = {verdict: sum(f.verdict == verdict for f in findings) for verdict in VERDICT_ORDER}
    named = {"note": "notes" if counts["note"] > 1 else "note"}
    parts = [f"{count} {named.get(verdict, verdict)}" for verdict, count in counts.items() if count]
    return " · ".join(parts) or "nothing is checked"


def check_page_html(job: Job, plan: Plan, findings: Sequence[Finding]) -> str:
    """Return the page as HTML with nothing outside it."""
    pack = job.rules()
    out = [
        f"<html><head><meta charset='utf-8'><title>{escape(plan.letter)} {escape(plan.name)}</title>",
        f"<style>{STYLE}</style></head><body>",
        f"<h1>All checks: {escape(plan.letter)} {escape(plan.name)}</h1>",
        *(f"<p>{escape(line)}</p>" for line in title_text(job)),
        f"<p>{escape(tally_words(findings))}. Rules: {escape(pack.name)}, {escape(pack.version)}"
        f"{'' if not job.pack_reason else f': {escape(job.pack_reason)}'}.</p>",
    ]
    out += [f"<p>Changed for this job: {escape(o.parameter)} is {o.value:g}: {escape(o.reason)}.</p>" for o in job.overrides]
    for name, rows in by_group(findings).items():
        out.append(f"<h2>{escape(name)}</h2><table width='100%'>")
        for f in rows:
            what = escape(f.heading)
            waived = f"<br>waived: {escape(f.waived)}" if f.waived else ""
            cost = f"<br>{escape(f.cost)}" if f.cost else ""
            remedies = "".join(f"<br>would clear it: {escape(r.text)}" for r in f.remedies)
            out.append(
                f"<tr><td width='11%'><b>{escape(f.word)}</b></td><td width='33%'>{what}<br>{escape(f.figure)}{cost}{waived}</td>"
                f"<td>{escape(f.arithmetic)}{remedies}<br><span class='q'>{escape(f.source)} [{escape(f.check)}]</span></td></tr>"
            )
        out.append("</table>")
    out.append("<h2>To look up or measure on site</h2>")
    missing = to_measure(findings)
    for page, items in missing.items():
        rows_html = "".join(f"<li>☐ {escape(words)} <span class='q'>({escape(name)})</span></li>" for name, words in items)
        out.append(f"<p><b>{escape(page)}</b></p><ul>{rows_html}</ul>")
    if not missing:
        out.append("<p>Nothing is missing that a check asks for.</p>")
    out.append(f"<p class='q'>{escape(CAUTION)}</p></body></html>")
    return "\n".join(out)


def asked_words(shown: int, whole: int) -> str:
    """Return how many of the findings a filter shows."""
    return count_words(whole, "finding") if shown == whole else f"{shown} of {count_words(whole, 'finding')}"

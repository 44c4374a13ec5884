"""What every answer begins with: whose job, what weather, which program, and who decides."""

from __future__ import annotations

from typing import Any

from calm_relay import __version__
from calm_relay.decision.words import guess_words, weather_guessed, weather_words
from calm_relay.job.models import Job

CAUTION = "Local codes, the network operator, the equipment's own manual and a licensed electrician decide."


def head_of(job: Job) -> dict[str, Any]:
    """Return what every JSON answer begins with."""
    return {
        "job": job.name,
        "made_up": job.made_up,
        "weather": weather_words(job),
        "weather_is_a_guess": weather_guessed(job),
        "calm_relay": __version__,
        "caution": CAUTION,
    }


def title_text(job: Job) -> list[str]:
    """Return the lines that a printed answer begins with."""
    guess = guess_words(job)
    return [job.name + (" (made-up)" if job.made_up else ""), *([guess] if guess else [])]

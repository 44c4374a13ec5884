"""Charts with axes, by pyqtgraph, in the theme's colours: stacked loads, duration curve, months. This module imports it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PySide6.QtCore import Qt
from PySide6.QtGui import QBrush, QColor, QResizeEvent
from PySide6.QtWidgets import QGraphicsPathItem, QSizePolicy, QWidget

from calm_relay.calendar import MONTHS
from calm_relay.ui.copying import Copyable, Rows
from calm_relay.ui.theme import Theme, hatch_brush, mixed, ui_font, ui_metrics
from calm_relay.ui.views.stack_names import Layer, place_names
from calm_relay.year.house_pictures import LoadCurve
from calm_relay.year.pictures import Duration, Stack

Array = NDArray[np.float64]
MOST_POINTS = 1500  # of a curve
pg.setConfigOptions(antialias=True)


class Chart(Copyable, pg.PlotWidget):
    """A quiet plot: no mouse zoom, no menu; axes in the theme's ink."""

    def __init__(self, theme: Theme, name: str, x_text: str, y_text: str, parent: QWidget | None = None) -> None:
        super().__init__(parent, enableMenu=False)  # else one is made, for each, and taken away again
        self._theme, self._scale = theme, 1.0
        self._texts = (x_text, y_text)
        self.setAccessibleName(name)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        item = self.getPlotItem()
        item.hideButtons()
        self.setMouseEnabled(False, False)
        self.setFrameShape(self.Shape.NoFrame)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._said: Callable[[], tuple[Sequence[str], Sequence[Sequence[str]]]] | None = None

    def copy_rows(self) -> Rows:
        """Return what the chart was drawn from, put into words only now."""
        if self._said is None:
            return ()
        heads, columns = self._said()
        return [list(heads), *(list(row) for row in zip(*columns, strict=True))]

    def say(self, said: Callable[[], tuple[Sequence[str], Sequence[Sequence[str]]]]) -> None:
        """Keep how the heads and columns of what is drawn are said, for who copies it."""
        self._said = said

    def set_theme(self, theme: Theme, scale: float) -> None:
        """Use other colours and another text size."""
        self._theme, self._scale = theme, scale
        self.setBackground(theme.color("panel"))
        self.setFixedHeight(int(190 * scale))
        for side, text in zip(("bottom", "left"), self._texts, strict=True):
            axis = self.getAxis(side)
            self._say_axis(side, text)
            axis.setPen(theme.color("line"))
            axis.setTextPen(theme.color("quiet"))
            axis.setTickFont(ui_font(7.5 * scale))
            axis.enableAutoSIPrefix(False)
            axis.setStyle(tickLength=3, autoExpandTextSpace=True)

    def _say_axis(self, side: str, text: str) -> None:
        axis = self.getAxis(side)
        axis.setLabel(text, color=self._theme.quiet, **{"font-size": f"{7.5 * self._scale}pt"})
        axis.label.setFont(ui_font(7.5 * self._scale))

    def area(self, x: Array, low: Array, high: Array, color: QColor, *, hatch: bool = False) -> None:
        """Fill between two curves: one closed path, since pyqtgraph's own item takes a tenth of a second for each."""
        around = pg.functions.arrayToQPath(np.concatenate((x, x[::-1])), np.concatenate((low, high[::-1])))
        item = QGraphicsPathItem(around)
        item.setPen(pg.mkPen(None))
        item.setBrush(hatch_brush(color) if hatch else QBrush(color))
        self.addItem(item)

    def curve(self, x: Array, y: Array, color: QColor, width: float = 1.6, style: Qt.PenStyle = Qt.PenStyle.SolidLine) -> None:
        """Draw a line."""
        self.addItem(pg.PlotCurveItem(x, y, pen=pg.mkPen(color, width=width, style=style)))

    def level(self, y: float, text: str, role: str, *, below: bool = False) -> None:
        """Draw a level with its name on it, or under it."""
        color = self._theme.color(role)
        at = (1, 0) if below else (1, 1)
        line = pg.InfiniteLine(
            y, 0, pen=pg.mkPen(color, width=1.6, style=Qt.PenStyle.DashLine), label=text,
            labelOpts={
                "position": 0.99, "anchors": [at, at], "color": color, "movable": False, "fill": self._theme.color("panel"),
            },
        )  # fmt: skip
        line.label.setFont(ui_font(7.5 * self._scale, bold=True))
        self.addItem(line)


def _kw(watts: Array) -> list[str]:
    return [f"{w / 1000:.3f}" for w in watts.tolist()]


def _told(hours: Array) -> list[str]:
    return [f"{h:g}" for h in np.round(hours, 3).tolist()]


# Fills for stacked loads: shades between house blue and paper, so that no other quantity's hue is borrowed.
def stack_colors(theme: Theme, count: int) -> list[QColor]:
    """Return `count` shades for a stack, darkest last."""
    base, paper = theme.color("house"), theme.color("panel")
    return [mixed(paper, base, 0.25 + 0.75 * (i + 1) / max(1, count)) for i in range(count)]


def _readable(inks: Sequence[QColor], ground: QColor) -> QColor:
    """Return the ink that stands out most on a ground."""
    return max(inks, key=lambda c: abs(c.lightnessF() - ground.lightnessF()))


class StackChart(Chart):
    """Loads stacked by appliance, with the limits that carry them."""

    _names: list[object] = []  # noqa: RUF012 - replaced whole
    _layers: tuple[Any, ...] = ()

    def show_stack(
        self, stack: Stack, levels: Sequence[tuple[float, str, str]] = (), days: Sequence[str] = ()
    ) -> list[tuple[str, QColor]]:
        """Draw a stack in kW, over named days or hours of one; returns names with their colours, for the legend."""
        self.clear()
        self.say(
            lambda: (["hour", *(f"{name}, kW" for name, _ in stack.parts)], [_told(stack.hours), *(_kw(w) for _, w in stack.parts)])
        )
        colors = stack_colors(self._theme, len(stack.parts))
        low = np.zeros_like(stack.hours)
        legend, layers = [], []
        for (name, watts), color in zip(stack.parts, colors, strict=True):
            high = low + watts / 1000.0
            self.area(stack.hours, low, high, color)
            self.curve(stack.hours, high, self._theme.color("panel"), 0.8)
            layers.append((name, low, watts / 1000.0, color))
            legend.append((name, color))
            low = high
        self.curve(stack.hours, low, self._theme.color("house"))
        top = float(low.max()) if len(low) else 1.0
        top = max([top, *(value / 1000.0 for value, _, _ in levels)])
        lowest = min((value for value, _, _ in levels), default=0.0)
        for value, text, role in levels:
            self.level(value / 1000.0, text, role, below=len(levels) > 1 and value == lowest)
        self.setXRange(float(stack.hours[0]), float(stack.hours[-1]), padding=0)
        self.setYRange(0, top * 1.08, padding=0)
        self._names = []
        if not days and layers:
            self._layers = (stack.hours, layers, top * 1.08, [value / 1000.0 for value, _, _ in levels])
            self._name_layers()
        axis = self.getAxis("bottom")
        if days:
            axis.setTicks([[(d * 24.0 + 12.0, name) for d, name in enumerate(days)], [(d * 24.0, "") for d in range(len(days))]])
        else:
            axis.setTicks([[(h, f"{h:02d}:00") for h in range(int(stack.hours[0]), int(stack.hours[-1]) + 2)], []])
        return legend

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        if self._layers:
            self._name_layers()

    def _name_layers(self) -> None:
        """Write the layers' names into the picture, so that no shade has to be matched with a legend."""
        for item in self._names:
            self.removeItem(item)
        self._names = []
        hours, layers, top, levels = self._layers
        metrics = ui_metrics(7.5 * self._scale, bold=True)
        wide_px, high_px = max(80.0, self.width() - 44.0 * self._scale), max(60.0, self.height() - 44.0 * self._scale)
        h_per_px, kw_per_px = float(hours[-1] - hours[0]) / wide_px, top / high_px
        made = [Layer(name, low, low + thick, (metrics.horizontalAdvance(name) + 8) * h_per_px) for name, low, thick, _ in layers]
        ink, paper = self._theme.color("ink"), self._theme.color("panel")
        for spot in place_names(hours, made, (metrics.height() + 1) * kw_per_px, top, levels):
            name, _, _, color = layers[spot.layer]
            against = paper if spot.to is not None else color
            text = pg.TextItem(name, color=_readable((ink, paper), against), anchor=(0.5, 0.5))
            text.setFont(ui_font(7.5 * self._scale, bold=True))
            text.setPos(spot.x, spot.y)
            if spot.to is not None:
                ends = np.array([spot.y - metrics.height() / 2 * kw_per_px, spot.to[1]])
                line = pg.PlotCurveItem(np.array([spot.x, spot.to[0]]), ends, pen=pg.mkPen(ink, width=1.0))
                self._names.append(line)
                self.addItem(line)
            self._names.append(text)
            self.addItem(text)


def _thinned(values: Array) -> Array:
    """Return means of as many neighbours as leave no more points than a wide screen has: each costs time in every paint."""
    per = max(1, len(values) // MOST_POINTS)
    thin: Array = values[: len(values) // per * per].reshape(-1, per).mean(axis=1)
    return thin


class DurationChart(Chart):
    """PV offered, sorted from most to least, with the inverters' limit and what was caught and lost above it."""

    def show_duration(self, d: Duration) -> None:
        """Draw the curve in kW over hours."""
        self.clear()
        self.say(
            lambda: (
                ("hour of the year", "offered, kW", "caught, kW", "lost, kW"),
                (_told(d.hours), _kw(d.offered_w), _kw(d.caught_w), _kw(d.lost_w)),
            )
        )
        t = self._theme
        offered = d.offered_w / 1000.0
        limit = d.limit_w / 1000.0
        used = np.minimum(offered, limit)
        smooth = max(1, len(offered) // 200)
        caught, lost = (np.convolve(part / 1000.0, np.ones(smooth) / smooth, mode="same") for part in (d.caught_w, d.lost_w))
        hours, offered_here, used, caught, lost = (_thinned(part) for part in (d.hours, offered, used, caught, lost))
        top = np.maximum(0.0, offered_here - limit)
        caught = np.minimum(caught, top)
        self.area(hours, np.zeros_like(used), used, t.color("sun"))
        self.area(hours, used, used + caught, t.color("battery"))
        self.area(hours, used + caught, used + np.minimum(top, caught + lost), t.color("lost"), hatch=True)
        self.curve(hours, offered_here, t.color("sun"), 1.2)
        if np.isfinite(limit):
            self.level(limit, "what the inverter passes", "over")
        self.setXRange(0, float(d.hours[-1]) if len(d.hours) else 1.0, padding=0)
        self.setYRange(0, max(float(offered.max()) if len(offered) else 0.0, min(limit, 1e3)) * 1.12 + 0.1, padding=0)


class MonthsChart(Chart):
    """Energy, money or days as grouped bars: of the months, or of other parts of the year."""

    def show_months(self, rows: Sequence[tuple[str, Sequence[float], str]], per: float = 1000.0) -> None:
        """Draw rows of (name, twelve values, hue) divided by `per`, Wh in kWh as it stands; what is below zero hangs down."""
        self.show_parts("month", MONTHS, rows, per)

    def set_unit(self, text: str) -> None:
        """Say what the bars are measured in."""
        self._texts = (self._texts[0], text)
        self._say_axis("left", text)

    def show_parts(
        self, head: str, names: Sequence[str], rows: Sequence[tuple[str, Sequence[float], str]], per: float = 1000.0
    ) -> None:
        """Draw rows of (name, a value for each part, hue) divided by `per`; `head` is what a part is."""
        self.clear()
        self.say(
            lambda: (
                [head, *(name for name, _, _ in rows)],
                [names, *([f"{v / per:.2f}" for v in values] for _, values, _ in rows)],
            )
        )
        width = 0.8 / max(1, len(rows))
        top, low = 1.0, 0.0
        for i, (_, values, hue) in enumerate(rows):
            high = np.array(values) / per
            x = np.arange(len(names)) + (i - (len(rows) - 1) / 2) * width
            self.addItem(pg.BarGraphItem(x=x, height=high, width=width * 0.92, brush=self._theme.color(hue), pen=pg.mkPen(None)))
            top, low = max(top, float(high.max())), min(low, float(high.min()))
        last = len(names) - 0.5
        self.setXRange(-0.5, last, padding=0.01)
        room = 0.05 * (top - low)  # also above a zero that all bars hang from: its figure stands half above it
        self.setYRange(low - room if low < 0 else 0.0, top + room, padding=0)
        if low < 0:
            self.curve(np.array([-0.5, last]), np.zeros(2), self._theme.color("ink"), 1.0)
        self.getAxis("bottom").setTicks([[(i, name) for i, name in enumerate(names)], []])


class LoadChart(Chart):
    """The house from most to least over the hours of the year, with the levels that carry it."""

    def show_curve(self, curve: LoadCurve) -> None:
        """Draw the curve in kW; the hours' axis is logarithmic, since the few highest are what matters."""
        self.clear()
        self.say(lambda: (("hours of the year", "the house, kW"), (_told(curve.hours), _kw(curve.load_w))))
        self.setLogMode(x=True, y=False)
        x, y = np.log10(curve.hours), curve.load_w / 1000.0
        self.addItem(pg.PlotCurveItem(x, y, pen=pg.mkPen(self._theme.color("house"), width=2.0)))
        top = float(y.max()) if len(y) else 1.0
        for watts, text, role in curve.levels:
            if watts / 1000.0 <= 2.0 * top:
                self.level(watts / 1000.0, f"{text} {watts / 1000:.1f}", role)
                top = max(top, watts / 1000.0)
        self.setXRange(float(x[0]), float(x[-1]), padding=0)
        self.setYRange(0, top * 1.12, padding=0)
        marks = (0.1, 1, 10, 100, 1000, 8760)
        self.getAxis("bottom").setTicks([[(float(np.log10(h)), f"{h:g}") for h in marks], []])


LINE_STYLES = (Qt.PenStyle.SolidLine, Qt.PenStyle.DashLine, Qt.PenStyle.DotLine, Qt.PenStyle.DashDotLine)


LINES = dict(zip(LINE_STYLES, ("line", "dashes", "dots", "dash and dot"), strict=True))


class DayLines(Chart):
    """Mean days by hour of the clock, of seasons or of phases; told apart by their lines, not by colour alone."""

    def show_days(self, days: Sequence[tuple[str, Array]]) -> list[tuple[str, QColor]]:
        """Draw the days in kW; returns names with their colours, for the legend."""
        self.clear()
        self.say(
            lambda: (
                ["hour", *(f"{name}, kW" for name, _ in days)],
                [[f"{h:02d}:00" for h in range(24)], *(_kw(w) for _, w in days)],
            )
        )
        colors = stack_colors(self._theme, len(days))
        x: Array = np.arange(24, dtype=float) + 0.5
        top = 0.1
        out = []
        for (name, watts), color, style in zip(days, reversed(colors), LINE_STYLES, strict=False):
            self.curve(x, watts / 1000.0, color, 2.0, style)
            top = max(top, float(watts.max()) / 1000.0)
            out.append((f"{name} ({LINES[style]})", color))
        self.setXRange(0, 24, padding=0)
        self.setYRange(0, top * 1.1, padding=0)
        self.getAxis("bottom").setTicks([[(h, f"{h:02d}:00") for h in range(0, 25, 3)], []])
        return out

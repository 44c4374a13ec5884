"""Copying what a page shows: every table and picture as text, as PNG or as SVG, on the clipboard or in a file."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any, cast

from PySide6.QtCore import QBuffer, QByteArray, QIODevice, QMimeData, QPoint
from PySide6.QtGui import QContextMenuEvent, QGuiApplication, QPainter
from PySide6.QtWidgets import QMenu, QTableWidget, QWidget

WAYS = (("text", "As text"), ("png", "As a picture (PNG)"), ("svg", "As a drawing (SVG)"))
SVG_TYPE = "image/svg+xml"
Rows = Sequence[Sequence[str]]


class Copyable:
    """Mixed into a picture that can be copied: it says its figures as rows, the first of them the heads."""

    def copy_rows(self) -> Rows:
        """Return the figures of the picture as rows of text."""
        raise NotImplementedError

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        """Offer to copy the picture."""
        menu = QMenu(cast("QWidget", self))
        fill_menu(menu, cast("QWidget", self))
        menu.exec(event.globalPos())


def table_rows(table: QTableWidget) -> Rows:
    """Return a table's cells, its heads first."""
    columns = range(table.columnCount())
    heads = [table.horizontalHeaderItem(c) for c in columns]
    out = [[(head.text() if head else "").strip().replace("\n", " ") for head in heads]]
    for r in range(table.rowCount()):
        cells = (table.item(r, c) for c in columns)
        out.append([cell.text().strip() if cell else "" for cell in cells])
    return out


def rows_of(widget: QWidget) -> Rows | None:
    """Return what a table or picture says in rows; None where it is neither."""
    if isinstance(widget, QTableWidget):
        return table_rows(widget)
    made = getattr(widget, "copy_rows", None)
    return None if made is None else cast("Rows", made())


def copyables(page: QWidget) -> list[QWidget]:
    """Return the tables and pictures of a page that are on screen or can be scrolled to, in the order they stand in."""
    found = [w for w in page.findChildren(QWidget) if isinstance(w, QTableWidget) or hasattr(w, "copy_rows")]
    shown = [w for w in found if w.isVisible()]
    return sorted(shown, key=lambda w: (w.mapTo(page, QPoint(0, 0)).y(), w.mapTo(page, QPoint(0, 0)).x()))


def copied_from(focus: QWidget | None) -> QWidget | None:
    """Return the table or picture that has the focus, or that holds what has it."""
    while focus is not None:
        if isinstance(focus, QTableWidget) or hasattr(focus, "copy_rows"):
            return focus
        focus = focus.parentWidget()
    return None


def text_of(widget: QWidget) -> str:
    """Return a table or picture as text with tabs, as spreadsheets take it."""
    return "\n".join("\t".join(row) for row in rows_of(widget) or ())


def png_of(widget: QWidget) -> bytes:
    """Return a widget as a PNG."""
    data = QByteArray()
    buffer = QBuffer(data)
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    widget.grab().save(buffer, "PNG")
    return bytes(data.data())


def svg_of(widget: QWidget) -> bytes:
    """Return a widget drawn as SVG."""
    from PySide6.QtSvg import QSvgGenerator

    data = QByteArray()
    buffer = QBuffer(data)
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    generator = QSvgGenerator()
    generator.setOutputDevice(buffer)
    generator.setSize(widget.size())
    generator.setViewBox(widget.rect())
    generator.setTitle(widget.accessibleName())
    painter = QPainter(generator)
    QWidget.render(widget, painter, QPoint(0, 0))
    painter.end()
    return bytes(data.data())


def copy(widget: QWidget, way: str = "") -> None:
    """Put a table or picture on the clipboard, one way or (by default) all ways at once: who pastes takes what fits."""
    data = QMimeData()
    if way in ("", "text"):
        data.setText(text_of(widget))
    if way in ("", "png"):
        data.setImageData(widget.grab().toImage())
    if way in ("", "svg"):
        data.setData(SVG_TYPE, QByteArray(svg_of(widget)))
    QGuiApplication.clipboard().setMimeData(data)


def save(widget: QWidget, path: Path) -> None:
    """Write a table or picture to a file, by its ending: .svg, .png, else text with tabs. Raises OSError."""
    ending = path.suffix.lower()
    made = svg_of(widget) if ending == ".svg" else png_of(widget) if ending == ".png" else text_of(widget).encode()
    path.write_bytes(made)


def fill_menu(menu: QMenu, widget: QWidget) -> None:
    """Put the ways of copying a table or picture into a menu."""
    for way, words in WAYS:
        menu.addAction(f"Copy {words[0].lower()}{words[1:]}").triggered.connect(lambda _=False, w=way: copy(widget, w))
    window: Any = widget.window()
    files = getattr(window, "files", None)
    if files is not None:
        menu.addSeparator()
        menu.addAction("Save it as a file…").triggered.connect(lambda _=False: files.save_picture(widget))

"""What the window remembers between starts: theme, text size, units, recent jobs. Kept in the user's configuration folder."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QSettings

MOST_RECENT = 8
THEMES = ("system", "light", "dark")


class Settings:
    """Reads and writes a small INI file; what cannot be written is done without."""

    def __init__(self, path: Path | None = None) -> None:
        if path is None:
            self._kept = QSettings(QSettings.Format.IniFormat, QSettings.Scope.UserScope, "calm-relay", "window")
        else:
            self._kept = QSettings(str(path), QSettings.Format.IniFormat)

    @property
    def file(self) -> Path:
        """The file they stand in."""
        return Path(self._kept.fileName())

    def _text(self, key: str, default: str) -> str:
        value = self._kept.value(key, default)
        return value if isinstance(value, str) else default

    @property
    def theme(self) -> str:
        """``system``, ``light`` or ``dark``."""
        name = self._text("theme", "light")
        return name if name in THEMES else "light"

    @theme.setter
    def theme(self, name: str) -> None:
        self._kept.setValue("theme", name)

    @property
    def text_scale(self) -> float:
        """Text size from 1.0 to 1.5."""
        try:
            return min(1.5, max(1.0, float(self._text("text_scale", "1.0"))))
        except ValueError:
            return 1.0

    @text_scale.setter
    def text_scale(self, scale: float) -> None:
        self._kept.setValue("text_scale", f"{scale:g}")

    @property
    def units(self) -> str:
        """``metric`` or ``north_american``."""
        return "north_american" if self._text("units", "metric") == "north_american" else "metric"

    @units.setter
    def units(self, system: str) -> None:
        self._kept.setValue("units", system)

    @property
    def recent(self) -> tuple[Path, ...]:
        """Jobs opened or saved lately that are still there, newest first."""
        listed = self._kept.value("recent", [])
        names = [listed] if isinstance(listed, str) else listed if isinstance(listed, list) else []
        return tuple(path for name in names if (path := Path(str(name))).is_file())

    def add_recent(self, path: Path) -> None:
        """Put a job at the head of the recent ones."""
        here = path.absolute()
        names = [str(here), *(str(p) for p in self.recent if p != here)][:MOST_RECENT]
        self._kept.setValue("recent", names)
        self._kept.sync()

"""``python -m calm_relay.cli``."""

from __future__ import annotations

from calm_relay.cli import main

raise SystemExit(main())

"""Shots that are still being made of a project, and how far they are: its wall tells of them before they are there."""

import json
import os
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from django.conf import settings

from nexal.files import written_whole


def _file() -> Path:
    return Path(settings.VAR) / "coming.json"


def tell(project: int, shots: Sequence[tuple[str, float]]) -> None:
    """Say which shots this process is making of a project, with the share of each that is done; none: it is over."""
    if not shots:
        _file().unlink(missing_ok=True)
        return
    with written_whole(_file()) as part:
        part.write_text(json.dumps({"by": os.getpid(), "project": project, "shots": shots}), encoding="utf-8")


def coming(project: int) -> list[tuple[str, float]]:
    """The shots that are being made of a project by a process that is alive."""
    try:
        told: dict[str, Any] = json.loads(_file().read_text(encoding="utf-8"))
        if told["project"] != project:
            return []
        os.kill(told["by"], 0)
        return [(str(name), float(share)) for name, share in told["shots"]]
    except (OSError, ValueError, KeyError, TypeError):
        return []

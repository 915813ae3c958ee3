"""Where the studio's log goes: a file of its own for each process in the data folder, and the terminal."""

from __future__ import annotations

import json
import logging
from pathlib import Path
from typing import Any

#: Bytes of a log file, and how many older ones stay.
_SIZE, _OLDER = 2 * 2**20, 4


class JsonLines(logging.Formatter):
    """One JSON object a line: easy to search, and to read by other programs."""

    def format(self, record: logging.LogRecord) -> str:
        row = {
            "time": self.formatTime(record, "%Y-%m-%dT%H:%M:%S%z"),
            "level": record.levelname.lower(),
            "from": record.name,
            "words": record.getMessage(),
        }
        if record.exc_info:
            row["traceback"] = self.formatException(record.exc_info)
        return json.dumps(row, ensure_ascii=False)


def logging_settings(folder: Path, process: str) -> dict[str, Any]:
    """Django's ``LOGGING``; ``process`` names the file, as two processes cannot share one that is renamed when full."""
    return {
        "version": 1,
        "disable_existing_loggers": False,
        "formatters": {
            "json": {"()": "studio.server.logs.JsonLines"},
            "plain": {"format": "{levelname} {name}: {message}", "style": "{"},
        },
        "handlers": {
            "file": {
                "class": "logging.handlers.RotatingFileHandler",
                "filename": str(folder / f"{process}.log"),
                "maxBytes": _SIZE,
                "backupCount": _OLDER,
                "encoding": "utf-8",
                "delay": True,
                "formatter": "json",
            },
            "terminal": {"class": "logging.StreamHandler", "formatter": "plain", "level": "WARNING"},
        },
        "loggers": {
            # what fails in a request is logged once, with its reference, by studio.server.failures
            "django.request": {"level": "CRITICAL"},
        },
        "root": {"handlers": ["file", "terminal"], "level": "INFO"},
    }

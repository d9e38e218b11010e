"""What processes say of themselves: as text, or as a JSON object a line; each line of a request has
its id. What came with a request, its query, its keys and its words, is in none of them."""

from __future__ import annotations

import json
import logging
import sys
import time
from contextvars import ContextVar
from datetime import UTC, datetime
from enum import StrEnum

from gefa.core.files import lacks_room

request_id: ContextVar[str] = ContextVar("request_id", default="")
FULL_EVERY = 60.0
"""seconds between two log lines about a full disk"""
FULL = "the disk is full"


class LogFormat(StrEnum):
    """The format of a log line."""

    TEXT = "text"
    JSON = "json"


class _Sparse(logging.Filter):
    """Passes one line a minute of those that a full disk causes, since there would be thousands."""

    def __init__(self) -> None:
        super().__init__()
        self._told = -FULL_EVERY

    def filter(self, record: logging.LogRecord) -> bool:
        error = record.exc_info[1] if record.exc_info else None
        if not (lacks_room(error) or str(record.msg).startswith(FULL)):
            return True
        now = time.monotonic()
        if now - self._told < FULL_EVERY:
            return False
        self._told = now
        if error is not None:
            record.msg, record.args = f"{FULL}: {error}", ()
            record.exc_info = record.exc_text = None
        return True


class _Text(logging.Formatter):
    def __init__(self) -> None:
        super().__init__("%(name)s: %(message)s")

    def format(self, record: logging.LogRecord) -> str:
        text = super().format(record)
        id = request_id.get()
        return f"{text} [{id}]" if id else text


class _Json(logging.Formatter):
    def format(self, record: logging.LogRecord) -> str:
        line = {
            "time": datetime.fromtimestamp(record.created, UTC).isoformat(timespec="milliseconds"),
            "level": record.levelname.lower(),
            "logger": record.name,
            "message": record.getMessage(),
        }
        if id := request_id.get():
            line["request"] = id
        if record.exc_info:
            line["error"] = self.formatException(record.exc_info)
        line |= getattr(record, "fields", {})
        return json.dumps(line, ensure_ascii=False)


def set_up(format: LogFormat = LogFormat.TEXT, *, access: bool = False) -> None:
    """Set up logging to the error stream."""
    handler = logging.StreamHandler(sys.stderr)
    handler.setFormatter(_Json() if format is LogFormat.JSON else _Text())
    handler.addFilter(_Sparse())
    logging.basicConfig(level=logging.WARNING, handlers=[handler], force=True)
    logging.getLogger("gefa.access").setLevel(logging.INFO if access else logging.WARNING)

"""Queues tasks: whoever has something done hands a body over; nothing else writes ``Task.task``."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel
from sqlmodel import Session

from gefa.store.contracts import kind_of
from gefa.store.models import Task


def enqueue(session: Session, body: BaseModel, **fields: Any) -> Task:
    """Queue a task for a worker; ``fields`` are columns of its row."""
    task = Task(kind=kind_of(body), task=body.model_dump(mode="json"), **fields)
    session.add(task)
    return task

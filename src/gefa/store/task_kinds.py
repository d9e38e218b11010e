"""The kinds of tasks: the contract of each is in ``contracts``."""

from __future__ import annotations

from enum import StrEnum


class TaskKind(StrEnum):
    READ = "read"
    SHOW = "show"
    TAKE = "take"
    PDF = "pdf"
    CUT = "cut"
    UPLOAD = "upload"
    TRY = "try"
    PROOF = "proof"
    CURVE = "curve"
    SCORE = "score"
    TRIAL = "trial"
    ESTIMATE = "estimate"

"""What a slot takes of a form of files."""

from __future__ import annotations

from dataclasses import dataclass

from gefa.core.read.sniff import sniff
from gefa.core.slots.settings import SlotSettings, bytes_refusal
from gefa.core.units import weight
from gefa.store.uploads import Sent
from gefa.web.file_form import FORM_BYTES, Received
from gefa.web.problems import Problem

MAX_FILES = 20
"""in one request; websites with more send several requests"""


@dataclass(frozen=True)
class SlotIntake:
    """An ``Intake`` with the limits of a slot."""

    settings: SlotSettings
    max_files: int = MAX_FILES

    @property
    def max_bytes(self) -> int:
        return self.settings.max_bytes

    @property
    def max_form_bytes(self) -> int:
        return self.max_files * self.max_bytes + FORM_BYTES

    def refusal(self, name: str, size: int, head: bytes) -> Problem | None:
        if not size:
            detail = f"{name} is empty. Check the file and upload it again."
            return Problem(422, "Empty file", detail)
        if size > self.max_bytes:
            detail = (
                f"{name} is larger than the {weight(self.max_bytes)} that this slot takes."
                " Save it smaller and upload it again."
            )
            return Problem(413, "Too large", detail)
        kind = sniff(head)
        if kind is None or kind not in self.settings.accepts:
            return Problem(415, "Unsupported file type", bytes_refusal(self.settings, name, kind))
        return None

    def too_much(self) -> Problem:
        return Problem(
            413,
            "Too large",
            f"This slot takes files up to {weight(self.max_bytes)}, and {self.max_files} at once."
            " Save the picture smaller and upload it again.",
            {"Connection": "close"},
        )


def as_sent(received: Received) -> Sent:
    """A file received for a slot; Problem if it was refused."""
    kind = sniff(received.head)
    return Sent(received.name, received.stored, kind.value if kind else "")

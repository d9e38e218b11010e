"""What an upload was before its file was replaced, until the new one is live."""

from __future__ import annotations

from sqlmodel import Session

from gefa.store.models import Upload, UploadState
from gefa.store.variants import drop_waiting

_FIELDS = (
    "name", "blob", "bytes", "format", "width", "height", "original_gone",
    "focal_x", "focal_y", "zoom", "suggested_x", "suggested_y",
    "placeholder", "tiny", "preview", "said", "treatment",
)  # fmt: skip
_WORDS = ("name", "bytes", "format", "width", "height", "state", "problem", "reason")


def keep_earlier(upload: Upload) -> None:
    """Remember the served file; a file that is replaced before it went live is not kept."""
    if not upload.earlier:
        upload.earlier = {name: getattr(upload, name) for name in _FIELDS}


def take_back(session: Session, upload: Upload, problem: str) -> None:
    """Return to the earlier file, which is still served; ``problem`` is a sentence about the
    replacement."""
    drop_waiting(session, upload.id)
    for name, value in upload.earlier.items():
        setattr(upload, name, value)
    upload.earlier, upload.reason = {}, ""
    upload.problem = f"{problem} What was there before stays."
    upload.state, upload.approved = UploadState.LIVE, True
    session.add(upload)


def forget_earlier(upload: Upload) -> None:
    """The new file stays."""
    upload.earlier = {}


def public_view(upload: Upload, *, words: bool = False) -> Upload:
    """The public view of an upload, not to be stored: what is served, without files that wait for
    review. With ``words``, the texts are those of the newest file."""
    seen = Upload.model_validate(upload.model_dump())
    if upload.state is UploadState.LIVE and not upload.earlier:
        return seen
    if upload.earlier:
        for name, value in upload.earlier.items():
            setattr(seen, name, value)
        seen.state, seen.problem = UploadState.LIVE, ""
    else:
        seen.placeholder = seen.tiny = seen.preview = ""
        seen.said = {}
    if words:
        for name in _WORDS:
            setattr(seen, name, getattr(upload, name))
    elif not upload.earlier:
        seen.name = seen.alt = seen.problem = seen.reason = ""
        seen.tags = []
    else:
        seen.reason = ""
    return seen

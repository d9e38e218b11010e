"""Passphrases: which are accepted, how they are stored and compared."""

from __future__ import annotations

import unicodedata

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError

from gefa.core.errors import GefaError

SHORTEST = 12
"""characters"""
LONGEST = 1_000
"""characters; more is not a passphrase, and slow to hash"""
_JUDGED = 64
"""characters to rate, which takes time in proportion to them"""
_STRONG = 3
"""of 4: more than 10^8 guesses, as zxcvbn estimates them"""
# argon2id with the parameters of RFC 9106, second recommended option: 64 MiB, 3 passes.
_hasher = PasswordHasher()
# A hash by these parameters, written down: to make one takes 0.1 s at each start.
_NOBODY = (
    "$argon2id$v=19$m=65536,t=3,p=4$tjh2C2w6r8BQbOda1NU+9A"
    "$Oenp1SXi5yiiO2h6NSewAM8XtdZuSv9j5Ez8k/QXiWA"
)


def hashed(passphrase: str, name: str) -> str:
    """The argon2id hash of a passphrase for ``name``; GefaError if it is too short or too easy to
    guess. Takes 50 ms and 64 MiB."""
    plain = _plain(passphrase)
    if len(plain) < SHORTEST:
        raise GefaError(
            f"the passphrase has {len(plain)} characters.",
            advice=f"Use at least {SHORTEST}: four or five words are easy to remember.",
        )
    if len(plain) > LONGEST:
        raise GefaError(f"the passphrase has more than {LONGEST:,} characters.")
    # Loaded where it is needed: its lists of words take 25 ms and 20 MB.
    from zxcvbn import zxcvbn

    judged = zxcvbn(plain[:_JUDGED], [name, *name.split(), "gefa"])
    if judged["score"] < _STRONG:
        why = judged["feedback"]["warning"] or "It is made of common words or patterns."
        raise GefaError(
            f"the passphrase is too easily guessed. {why}",
            advice="Use four or five unrelated words.",
        )
    return _hasher.hash(plain)


def matches(passphrase: str, kept: str) -> bool:
    """Whether a passphrase matches. Takes equally long if nothing is stored: ``kept`` is empty for
    unknown people."""
    try:
        same = _hasher.verify(kept or _NOBODY, _plain(passphrase[: LONGEST + 1]))
    except (VerificationError, InvalidHashError):
        return False
    return same and bool(kept)


def is_outdated(kept: str) -> bool:
    """Whether the hash has other parameters than new ones."""
    return _hasher.check_needs_rehash(kept)


def rehashed(passphrase: str) -> str:
    """The hash of an accepted passphrase, with current parameters."""
    return _hasher.hash(_plain(passphrase))


def _plain(passphrase: str) -> str:
    # Keyboards write the same letter in several ways (NIST SP 800-63B, 5.1.1.2).
    return unicodedata.normalize("NFKC", passphrase.encode("utf-8", "replace").decode())

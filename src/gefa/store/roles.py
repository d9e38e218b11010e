"""What people may do: roles, and what each allows."""

from __future__ import annotations

from collections.abc import Iterable
from enum import StrEnum


class Permission(StrEnum):
    """Something that a role allows."""

    LOOK = "look"
    """see and download everything that is not held"""
    DEVELOP = "develop"
    """sources, plan, recipes, slots, runs"""
    EDIT = "edit"
    """uploads: send, describe, crop, replace, remove"""
    REVIEW = "review"
    """uploads: approve, reject"""
    OWN = "own"
    """people, keys, the installation"""


class Role(StrEnum):
    OWNER = "owner"
    DEVELOPER = "developer"
    EDITOR = "editor"
    REVIEWER = "reviewer"
    VIEWER = "viewer"


ALL_PERMISSIONS = frozenset(Permission)
_ALLOWS = {
    Role.OWNER: ALL_PERMISSIONS,
    Role.DEVELOPER: frozenset({Permission.LOOK, Permission.DEVELOP}),
    Role.EDITOR: frozenset({Permission.LOOK, Permission.EDIT}),
    Role.REVIEWER: frozenset({Permission.LOOK, Permission.REVIEW}),
    Role.VIEWER: frozenset({Permission.LOOK}),
}
ROLE_WORDS = {
    Role.OWNER: "everything, with people, keys and the installation",
    Role.DEVELOPER: "sources, plans, recipes, slots, runs",
    Role.EDITOR: "uploads: send, describe, crop, replace, remove",
    Role.REVIEWER: "uploads: approve, reject",
    Role.VIEWER: "look and download",
}


def permissions_of(roles: Iterable[str]) -> frozenset[Permission]:
    """Everything that these roles allow."""
    return frozenset(right for role in roles for right in _ALLOWS[Role(role)])


def roles_with(right: Permission) -> list[Role]:
    """The roles with this permission, fewest permissions first."""
    return sorted(
        (role for role in Role if right in _ALLOWS[role]), key=lambda role: len(_ALLOWS[role])
    )

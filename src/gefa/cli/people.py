"""``gefa people``: who may sign in, with what roles, and what they did."""

from __future__ import annotations

import json
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer
from rich.table import Table

from gefa.cli.console import WRONG_USAGE, DataFolder, fail, failing, out_console
from gefa.core.errors import GefaError
from gefa.store.roles import Role

if TYPE_CHECKING:
    from sqlmodel import Session

    from gefa.store.person_models import Person

app = typer.Typer(
    help="Manage people: who may sign in, their roles, and the audit trail.", no_args_is_help=True
)

Name = Annotated[str, typer.Argument(metavar="NAME", show_default=False)]
Roles = Annotated[list[Role], typer.Option("--role", help="What they may do; repeat for several.")]
Address = Annotated[
    str, typer.Option("--address", help="The address of the server.", envvar="GEFA_ADDRESS")
]
AsJson = Annotated[bool, typer.Option("--json", help="Print JSON.")]
Last = Annotated[bool, typer.Option("--last", help="Even if it is the last one.")]
Most = Annotated[int, typer.Option("--most", min=1, help="How many entries, the newest first.")]

HERE = Path("gefa-data")
AT_HOME = "http://127.0.0.1:8741"


@contextmanager
def _changing(data: Path) -> Iterator[Session]:
    """Change people in the data folder. A running server sees the change at once."""
    from gefa.store.actor import Actor, acting
    from gefa.store.store import Store

    with failing():
        store = Store(data.resolve())
        try:
            with acting(Actor("command line")), store.changing() as session:
                yield session
        finally:
            store.close()


def _found(session: Session, name: str) -> Person:
    from gefa.store.people import person_named

    person = person_named(session, name)
    if person is None:
        raise GefaError(f"there is nobody named {name!r}.", advice="See `gefa people list`.")
    return person


@app.command()
def add(name: Name, role: Roles, data: DataFolder = HERE, address: Address = AT_HOME) -> None:
    """Add a person, and print a link to choose a passphrase."""
    from gefa.store.people import add_person, has_people, new_link

    with _changing(data) as session:
        if not has_people(session) and Role.OWNER not in role:
            raise GefaError("the first person has to be an owner.", advice="Add --role owner.")
        person = add_person(session, name, role)
        token = new_link(session, person)
    _tell(person.name, address, token)


@app.command()
def link(name: Name, data: DataFolder = HERE, address: Address = AT_HOME) -> None:
    """Print a new link for a person who lost the first, or forgot the passphrase."""
    from gefa.store.people import new_link

    with _changing(data) as session:
        person = _found(session, name)
        token = new_link(session, person)
    _tell(person.name, address, token)


def _tell(name: str, address: str, token: str) -> None:
    out_console.print(f"{name} can choose a passphrase here, once, within a day:", markup=False)
    typer.echo(f"{address.rstrip('/')}/welcome?link={token}")


@app.command()
def role(name: Name, role: Roles, data: DataFolder = HERE) -> None:
    """Change a person's roles."""
    from gefa.store.people import set_roles

    with _changing(data) as session:
        person = _found(session, name)
        set_roles(session, person, role)
    out_console.print(f"{person.name}: {', '.join(person.roles)}", markup=False)


@app.command()
def remove(name: Name, data: DataFolder = HERE, last: Last = False) -> None:
    """Remove a person. All their sessions end at once."""
    from gefa.store.people import all_people, remove_person

    with _changing(data) as session:
        person = _found(session, name)
        if len(all_people(session)) == 1 and not last:
            raise GefaError(
                f"{person.name} is the last one; without people this machine is open to all.",
                advice="Add --last to remove them all the same.",
            )
        remove_person(session, person)
    out_console.print(f"{name} is removed.", markup=False)


@app.command(name="list")
def listed(data: DataFolder = HERE, as_json: AsJson = False) -> None:
    """List everybody, with their roles."""
    from gefa.store.models import as_utc
    from gefa.store.people import all_people

    with _reading(data) as session:
        people: list[dict[str, Any]] = [
            {
                "name": person.name,
                "roles": person.roles,
                "passphrase": bool(person.passphrase),
                "account": bool(person.account),
                "added": as_utc(person.created).isoformat(),
            }
            for person in all_people(session)
        ]
    if as_json:
        typer.echo(json.dumps(people, indent=2))
        return
    table = Table(box=None, pad_edge=False)
    for title in ("name", "roles", "signs in with"):
        table.add_column(title)
    for one in people:
        ways = [way for way in ("passphrase", "account") if one[way]]
        table.add_row(str(one["name"]), ", ".join(one["roles"]), ", ".join(ways) or "not yet")
    out_console.print(table)


@app.command()
def trail(data: DataFolder = HERE, as_json: AsJson = False, most: Most = 1000) -> None:
    """List who did what, newest first."""
    from gefa.store.models import as_utc
    from gefa.store.trail import entries

    with _reading(data) as session:
        found = [
            {
                "time": as_utc(entry.time).isoformat(),
                "who": entry.who,
                "what": entry.kind,
                "subject": entry.subject,
                "detail": entry.detail,
                "address": entry.address,
            }
            for entry in entries(session, most=most)
        ]
    if as_json:
        typer.echo(json.dumps(found, indent=2))
        return
    for one in found:
        line = f"{one['time'][:16]}  {one['who'] or '–'}: {one['what']} {one['subject']}"
        out_console.print(f"{line} {one['detail']}".rstrip(), markup=False, soft_wrap=True)


@contextmanager
def _reading(data: Path) -> Iterator[Session]:
    from gefa.store.store import Store

    if not (data / "gefa.sqlite3").exists():
        fail(GefaError(f"there is no site in {data}.", advice="Name it with --data."), WRONG_USAGE)
    with failing():
        store = Store(data.resolve())
        try:
            with store.reading() as session:
                yield session
        finally:
            store.close()

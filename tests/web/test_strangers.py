"""What strangers say of themselves: names, addresses, hosts."""

from __future__ import annotations

import pytest

from gefa.store.people import name_key
from gefa.web.courier import is_public
from gefa.web.rates import TRIES_BY_ADDRESS, TRIES_BY_NAME, Tries
from gefa.web.security import HostCheck


def test_a_name_counts_as_one_however_its_letters_are_written() -> None:
    assert len({name_key(name) for name in ("Vi", "vi", "Ｖi", "𝐕i", "Ⅵ", " VI ")}) == 1


def test_tries_are_counted_for_a_network_of_ipv6() -> None:
    tries = Tries()
    for number in range(TRIES_BY_ADDRESS.count):
        assert tries.wait(f"name {number}", f"2001:db8:1:2::{number:x}") == 0
    assert tries.wait("another", "2001:db8:1:2:ffff::1") > 0
    assert tries.wait("another", "2001:db8:1:3::1") == 0
    assert tries.wait("one more", "::ffff:192.0.2.1") == 0


def test_a_browser_that_is_known_is_not_locked_out_by_others() -> None:
    tries = Tries()
    for number in range(TRIES_BY_NAME.count + 1):
        waits = tries.wait("vi", f"192.0.2.{number}")
    assert waits > 0
    assert tries.wait("known vi", "198.51.100.1") == 0


@pytest.mark.parametrize(
    ("address", "public"),
    [
        ("93.184.216.34", True), ("2606:2800:220:1::1", True), ("64:ff9b::5db8:d822", True),
        ("127.0.0.1", False), ("10.1.2.3", False), ("224.0.0.1", False), ("::1", False),
        ("64:ff9b::7f00:1", False), ("2002:7f00:1::", False), ("::127.0.0.1", False),
        ("::ffff:10.0.0.1", False), ("fec0::1", False), ("ff02::1", False), ("fd00::1", False),
    ],
)  # fmt: skip
def test_webhooks_go_to_the_public_internet_only(address: str, public: bool) -> None:
    assert is_public(address) is public


@pytest.mark.parametrize(
    ("host", "known"),
    [
        ("localhost", True), ("127.0.0.1:80", True), ("[::1]:8741", True), ("Site.Example:1", True),
        ("[::1].evil", False), ("evil@127.0.0.1", False), ("evil.example", False), ("", False),
        ("127.0.0.1:80@evil", False), ("[::1", False), ("127.0.0.1/x", False),
    ],
)  # fmt: skip
def test_only_hosts_that_are_this_server_are_answered(host: str, known: bool) -> None:
    async def nothing(*_: object) -> None:
        """Never called."""

    assert HostCheck(nothing, frozenset({"site.example"}))._is_known(host) is known

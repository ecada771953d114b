"""LDAP as directories really speak it, against a real slapd: TLS, kinds of membership, odd names and values,
large groups, broken servers.
"""

from __future__ import annotations

import contextlib
import socket
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from ldap.dn import escape_dn_chars

from dravo.demo import directory
from dravo.demo.directory import group_dn, user_dn
from dravo.protocols.directory import ldap_connection
from dravo.protocols.directory.connectors import open_reader, read_settings
from dravo.protocols.directory.ldap_settings import folded_dn
from dravo.protocols.directory.reader import DirectoryTrouble, Entry, GroupEntry
from tests.directories import Estates, estates

PICTURE = bytes([0xFF, 0xD8, 0xFF, 0x00, 0x10])


@pytest.fixture(scope="module")
def varied(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Estates]:
    """A directory with one of each oddity, and one group of 50,000."""
    odd = f"uid=o\\2C\\20neill\\2Bsons,{directory.USERS}"
    entries = [
        directory.user(
            "zofia",
            "Zofia",
            "Wiśniarska",
            {"mail": ["zofia@fernhollow.example", "z@fernhollow.example"], "jpegPhoto": [PICTURE]},
        ),
        directory.user("aoki", "美咲", "青木"),
        directory.ldif(
            odd,
            {"objectClass": ["inetOrgPerson"], "uid": ["o, neill+sons"], "cn": ["O, Neill"], "sn": ["Neill"]},
        ),
        directory.group(
            "Odd, names + more",
            [f"UID=O\\, Neill\\+Sons, OU=People,{directory.SUFFIX}", user_dn("zofia").upper()],
        ),
        directory.ldif(
            group_dn("Unique"),
            {
                "objectClass": ["groupOfUniqueNames"],
                "cn": ["Unique"],
                "uniqueMember": [user_dn("zofia"), group_dn("Odd, names + more")],
            },
        ),
        directory.ldif(
            group_dn("Posix"),
            {
                "objectClass": ["posixGroup"],
                "cn": ["Posix"],
                "gidNumber": ["7"],
                "memberUid": ["Zofia", "aoki", "nobody"],
            },
        ),
        directory.group(
            "Large", [user_dn("zofia"), *(user_dn(f"stranger.{number}") for number in range(49_999))]
        ),
    ]
    with estates(tmp_path_factory.mktemp("varied"), "".join(entries)) as made:
        yield made


def reader(
    made: Estates,
    uses: tuple[str, ...] = ("uid", "mail", "jpegphoto", "sn"),
    secret: str = directory.READER_PASSWORD,
    **settings: Any,
) -> Any:
    return open_reader("ldap", read_settings("ldap", {**made.settings, **settings}), secret, Path(), uses)


def users(made: Estates, **settings: Any) -> dict[str, Entry]:
    opened = reader(made, **settings)
    with contextlib.closing(opened):
        return {each.attributes["uid"][0]: each for each in opened.users() if isinstance(each, Entry)}


def groups(made: Estates, **settings: Any) -> dict[str, GroupEntry]:
    opened = reader(made, **settings)
    with contextlib.closing(opened):
        list(opened.users())
        return {each.name: each for each in opened.groups() if isinstance(each, GroupEntry)}


def test_values_are_texts_lists_or_base64_and_names_of_any_script(varied: Estates) -> None:
    found = users(varied)
    assert found["zofia"].attributes["mail"] == ["zofia@fernhollow.example", "z@fernhollow.example"]
    assert found["zofia"].attributes["jpegphoto"] == ["/9j/ABA="]
    assert (found["zofia"].attributes["sn"], found["aoki"].attributes["sn"]) == (["Wiśniarska"], ["青木"])
    # Only what expressions use is asked for and kept.
    assert set(found["aoki"].attributes) == {"uid", "sn"}


def test_members_are_found_however_their_dn_is_written(varied: Estates) -> None:
    found, by_name = users(varied), groups(varied)
    assert set(by_name["Odd, names + more"].members) == {
        found["o, neill+sons"].reference,
        found["zofia"].reference,
    }


def test_members_by_unique_member_member_uid_and_member_of(varied: Estates) -> None:
    found = users(varied)
    by_unique = groups(varied, membership="uniqueMember")
    assert set(by_unique["Unique"].members) == {
        found["zofia"].reference,
        by_unique["Odd, names + more"].reference,
    }
    posix, by_uid = groups(varied, membership="memberUid"), users(varied, membership="memberUid")
    assert set(posix["Posix"].members) == {by_uid["zofia"].reference, by_uid["aoki"].reference, "nobody"}
    # The directory notes memberOf for groups that are made while it runs.
    varied.add_group("Keepers", user_dn("zofia"), user_dn("aoki"))
    by_user = groups(varied, membership="memberOf")
    assert set(by_user["Keepers"].members) == {found["zofia"].reference, found["aoki"].reference}
    opened = reader(varied, membership="memberOf")
    list(opened.users())
    assert opened.mark() is None, "a change of somebody's groups does not show in when they were changed"
    varied.remove(group_dn("Keepers"))


def test_a_group_of_fifty_thousand_is_read_completely(varied: Estates) -> None:
    assert len(groups(varied)["Large"].members) == 50_000


def test_tls_is_checked_by_default_against_the_right_authority(varied: Estates) -> None:
    made = varied.directory
    assert len(users(varied, address=made.tls_address)) == len(users(varied)) == 3
    for settings in ({"ca": ""}, {"ca": "", "address": made.tls_address}):
        with pytest.raises(DirectoryTrouble, match="certificate"):
            users(varied, **settings)
    assert len(users(varied, ca="", check_certificate=False, address=made.tls_address)) == 3


def test_a_wrong_or_missing_password_is_refused(varied: Estates) -> None:
    for secret, told in (("wrong", "Invalid credentials"), ("", "password is missing")):
        opened = reader(varied, secret=secret)
        with pytest.raises(DirectoryTrouble, match=told):
            list(opened.users())


def test_an_account_that_reads_passwords_is_reported(varied: Estates) -> None:
    opened = reader(
        varied,
        bind_dn=directory.ADMIN,
        secret=directory.ADMIN_PASSWORD,
        users_filter="(objectClass=*)",
        users_base=directory.SUFFIX,
    )
    checked = opened.check(["uid"])
    assert checked.steps[-1].outcome == "warning" and "password hashes" in checked.steps[-1].message
    assert "userpassword" not in checked.attributes


@contextlib.contextmanager
def server(answer: Any) -> Iterator[int]:
    """Run a server that does with each connection whatever it is told."""
    listening = socket.create_server(("127.0.0.1", 0))

    def serve() -> None:
        with contextlib.suppress(OSError):
            while True:
                connection, _ = listening.accept()
                threading.Thread(target=answer, args=(connection,), daemon=True).start()

    threading.Thread(target=serve, daemon=True).start()
    try:
        yield listening.getsockname()[1]
    finally:
        listening.close()


def never(connection: socket.socket) -> None:
    with contextlib.suppress(OSError):
        while connection.recv(4_096):
            pass


def rubbish(connection: socket.socket) -> None:
    with contextlib.suppress(OSError):
        connection.recv(4_096)
        connection.sendall(b"HTTP/1.1 400 Bad Request\r\n\r\n")
        connection.close()


@pytest.mark.parametrize("answer", [never, rubbish])
def test_a_server_that_is_slow_or_no_directory_at_all_is_given_up_in_time(
    varied: Estates, monkeypatch: pytest.MonkeyPatch, answer: Any
) -> None:
    monkeypatch.setattr(ldap_connection, "SECONDS", 1)
    with server(answer) as port:
        opened = reader(varied, address=f"ldap://127.0.0.1:{port}", start_tls=False)
        began = time.monotonic()
        with pytest.raises(DirectoryTrouble):
            list(opened.users())
        assert time.monotonic() - began < 10
        checked = opened.check(["uid"])
        assert not checked.fine and checked.steps[-1].outcome == "skipped"


@given(
    st.lists(
        st.text(
            st.characters(blacklist_categories=("Cs", "Cc"), blacklist_characters="\u00df"),
            min_size=1,
            max_size=8,
        ),
        min_size=1,
        max_size=3,
    )
)
def test_a_dn_is_the_same_in_any_letter_case_and_with_any_blanks(values: list[str]) -> None:
    parts = [f"CN={escape_dn_chars(value)}" for value in values]
    try:
        folded = folded_dn(",".join(parts))
    except ValueError:
        # What the library itself does not take for a DN.
        return
    assert folded_dn(" , ".join(f"cn = {part[3:]}" for part in parts)) == folded
    assert folded_dn(folded) == folded

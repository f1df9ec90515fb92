"""Templates: a set-up without its takes, kept by name, begun with again."""

from __future__ import annotations

from dataclasses import replace

import pytest

from puresignal.core.errors import FileAccessError
from puresignal.core.session.destination import Destination
from puresignal.core.session.live_input import LiveInput
from puresignal.core.session.session import Session
from puresignal.core.session.take_ref import TakeRef
from puresignal.core.timing.session_time import Timeline
from puresignal.io import note_map_file, templates

SET_UP = Session(
    name="Friday",
    takes=(TakeRef(ident="t1", name="One", source=None, material="t1"),),
    target=note_map_file.shipped("general-midi"),
    inputs=(LiveInput("Shed kit", 10, note_map_file.shipped("general-midi"), "Out", name="Kit"),),
    destinations=(Destination("Drum room", "Boathouse", 3),),
    timeline=Timeline.steady(93.0),
    key="D minor",
    numbers=1,
)


@pytest.fixture(autouse=True)
def home(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))


def test_a_template_is_the_session_without_its_takes():
    path = templates.keep(SET_UP, "Trio")
    assert templates.kept() == {"Trio": path}
    begun = templates.begin(path)
    assert begun == replace(SET_UP, name="Untitled", takes=(), numbers=0)


def test_names_that_look_alike_are_apart_and_the_same_name_replaces():
    one, two = templates.keep(SET_UP, "a/b"), templates.keep(SET_UP, "a b")
    assert one != two
    assert templates.keep(replace(SET_UP, key="A major"), "a b") == two
    assert templates.begin(two).key == "A major"
    assert list(templates.kept()) == ["a b", "a/b"]
    templates.remove(two)
    assert list(templates.kept()) == ["a/b"]


def test_a_torn_file_is_skipped_and_not_replaced(tmp_path):
    templates.folder().mkdir(parents=True)
    torn = templates.folder() / "trio.puresignal"
    torn.write_bytes(b"not a session")
    path = templates.keep(SET_UP, "Trio")
    assert path != torn
    assert templates.kept() == {"Trio": path}
    assert torn.read_bytes() == b"not a session"


def test_a_folder_that_cannot_be_made_is_said(tmp_path):
    (tmp_path / "data").write_text("in the way")
    with pytest.raises(FileAccessError):
        templates.keep(SET_UP, "Trio")
    assert templates.kept() == {}

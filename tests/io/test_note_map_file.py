"""Kept note maps: found by name, and none replaced by another."""

from __future__ import annotations

import pytest

from puresignal.core.errors import NoteMapError
from puresignal.core.kit.note_map import renamed
from puresignal.io import note_map_file


def test_maps_whose_names_look_alike_do_not_replace_each_other():
    kit = note_map_file.shipped("lantern-pads")
    first, second = (note_map_file.keep(renamed(kit, name)) for name in ("Kit A", "kit-a!"))
    assert first != second
    assert [one.name for one in note_map_file.own()] == ["Kit A", "kit-a!"]
    assert note_map_file.keep(renamed(kit, "kit-a!")) == second
    assert len(note_map_file.own()) == 2


def test_a_file_that_cannot_be_read_is_not_replaced_by_a_kept_map():
    folder = note_map_file.own_folder()
    folder.mkdir(parents=True)
    (folder / "kit-a.json").write_text("{half")
    kept = note_map_file.keep(renamed(note_map_file.shipped("lantern-pads"), "Kit A"))
    assert (folder / "kit-a.json").read_text() == "{half"
    assert note_map_file.find("kit a") == note_map_file.read(kept)


def test_a_mistyped_name_is_guessed():
    with pytest.raises(NoteMapError, match="Did you mean “harbour-mesh”"):
        note_map_file.find("harbor-mesh")

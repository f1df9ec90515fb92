from __future__ import annotations

import json
from importlib import resources

import jsonschema
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from puresignal.core.errors import NoteMapError, SettingsError
from puresignal.core.kit.articulations import family_of, is_articulation, mark_of, resolve, spoken
from puresignal.core.kit.note_map import HatPedal, check_source, from_json, to_json
from puresignal.core.path.settings_json import from_json as settings_from_json
from puresignal.io import note_map_file

GOOD = {
    "format": "pure-signal/note-map", "version": 1, "name": "Kit", "channel": 10,
    "pads": [{"articulation": "snare.head", "note": 38, "group": "left", "channel": 3, "also": [40]}],
    "hat": {"controller": 4, "closed_at": 127, "open_at": 0, "notes_follow_pedal": True},
}  # fmt: skip
KEYS = {"format", "version", "name", "channel", "pads", "hat", "articulation", "note", "group", "also", "doubles", "on"}
WRONG = {
    "format": "other", "version": 0, "name": " ", "channel": 17, "pads": "none",
    "pads.0": "snare", "pads.0.articulation": "Snare!", "pads.0.note": 128, "pads.0.channel": 0, "pads.0.group": "",
    "pads.0.also": [38, 200], "hat": 4, "hat.controller": 120, "hat.closed_at": -1, "hat.open_at": 1.5,
    "hat.notes_follow_pedal": "no",
}  # fmt: skip
SCHEMA = json.loads((resources.files("puresignal") / "schemas" / "note-map.schema.json").read_text())


def spoiled(path: str, value: object) -> dict:
    data = json.loads(json.dumps(GOOD))
    *parents, last = [int(p) if p.isdigit() else p for p in path.split(".")]
    place = data
    for parent in parents:
        place = place[parent]
    place[last] = value
    return data


@pytest.mark.parametrize("path", WRONG)
def test_each_wrong_field_is_named_with_what_to_do(path):
    data = spoiled(path, WRONG[path])
    with pytest.raises(NoteMapError) as raised:
        from_json(data, "mine.json")
    action, where, remedy = raised.value.args
    assert path.split(".")[-1].replace("0", "pads[0]") in action
    assert where == "mine.json"
    assert remedy.endswith(".")
    with pytest.raises(jsonschema.ValidationError):
        jsonschema.validate(data, SCHEMA)


@pytest.mark.parametrize("path", ["name", "pads", "pads.0.note", "pads.0.articulation", "format", "version"])
def test_a_missing_field_is_named(path):
    data = spoiled(path, None)
    with pytest.raises(NoteMapError, match="missing"):
        from_json(data, "mine.json")


@pytest.mark.parametrize("data", [[], "text", None, 5, {"pads": 3}])
def test_other_json_is_refused_as_a_map(data):
    with pytest.raises(NoteMapError, match=r"mine\.json"):
        from_json(data, "mine.json")


def test_a_misspelt_field_is_an_error_and_an_unknown_one_is_ignored():
    with pytest.raises(NoteMapError, match='Write "notes_follow_pedal"'):
        from_json({**GOOD, "hat": {"controller": 4, "note_follow_pedal": True}}, "mine.json")
    assert from_json({**GOOD, "colour_of_shells": "teal"}, "mine.json").name == "Kit"


def test_a_later_version_says_so():
    with pytest.raises(NoteMapError, match="version 7"):
        from_json({**GOOD, "version": 7}, "mine.json")


@pytest.mark.parametrize("ident", note_map_file.shipped_ids())
def test_shipped_maps_fit_the_schema_serve_as_sources_and_go_back_unchanged(ident):
    note_map = note_map_file.shipped(ident)
    jsonschema.validate(to_json(note_map), SCHEMA)
    check_source(note_map, ident)
    assert from_json(to_json(note_map), ident) == note_map


def test_shipped_kits_differ_as_real_modules_do():
    kits = [note_map_file.shipped(i) for i in note_map_file.shipped_ids()]
    assert len(kits) >= 6
    assert any(k.hat and not k.hat.notes_follow_pedal and k.hat.closed_at < k.hat.open_at for k in kits)
    assert any(k.hat and not k.hat.notes_follow_pedal and k.hat.closed_at > k.hat.open_at for k in kits)
    assert any(len({k.channel_of(p) for p in k.pads}) == 2 for k in kits)
    assert len({k.channel for k in kits}) >= 3
    # Numbers of our own: no invented kit shares many of its notes' meanings with General MIDI.
    general = {p.articulation: p.note for p in note_map_file.shipped("general-midi").pads}
    for kit in kits:
        if kit.name != "General MIDI percussion":
            assert not [p for p in kit.pads if general.get(p.articulation) == p.note]
    assert {p.note for p in note_map_file.shipped("general-midi").pads} == set(range(35, 82))


def test_one_note_meaning_two_things_is_an_error_only_where_it_is_read():
    twice = from_json(
        {**GOOD, "pads": [{"articulation": "kick", "note": 36}, {"articulation": "aux1", "note": 36}]}, "m"
    )
    with pytest.raises(NoteMapError, match="both kick and aux1"):
        check_source(twice, "m")


def test_the_same_note_on_two_channels_is_two_pads():
    check_source(from_json({**GOOD, "pads": [Pad_json("kick", 36, 10), Pad_json("tom1.head", 36, 11)]}, "m"), "m")


def Pad_json(articulation: str, note: int, channel: int) -> dict:
    return {"articulation": articulation, "note": note, "channel": channel}


@pytest.mark.parametrize(
    ("wanted", "available", "nearer", "found"),
    [
        ("snare.rim", ("snare.head",), "open", "snare.head"),
        ("snare.side", ("snare.rim", "snare.head"), "open", "snare.head"),
        ("hat.half", ("hat.open", "hat.closed"), "open", "hat.open"),
        ("hat.half", ("hat.open", "hat.closed"), "closed", "hat.closed"),
        ("hat.edge.closed", ("hat.closed", "hat.open"), "open", "hat.closed"),
        ("hat.edge.half", ("hat.closed", "hat.half"), "open", "hat.half"),
        ("hat.edge.half", ("hat.edge.open", "hat.closed"), "open", "hat.edge.open"),
        ("hat.splash", ("hat.closed", "hat.pedal"), "open", "hat.pedal"),
        ("crash1.edge", ("crash1.bow",), "open", "crash1.bow"),
        ("ride.bell", ("ride.edge", "ride.bow"), "open", "ride.bow"),
        ("snare", ("snare.rim", "snare.head"), "open", "snare.head"),
        ("snare.head", ("snare",), "open", "snare"),
        ("crash2.bow", ("crash1.bow",), "open", None),
        ("cowbell", ("claps",), "open", None),
        ("kick.second", ("kick",), "open", "kick"),
    ],
)
def test_a_missing_articulation_goes_to_the_nearest_of_its_drum(wanted, available, nearer, found):
    assert resolve(wanted, available, nearer) == found


def test_names_for_people_and_marks():
    assert spoken("snare.rim") == "snare, rim"
    assert spoken("hat.splash") == "hi-hat, splash"
    assert spoken("tom2.head") == "tom 2, head"
    assert spoken("splash") == "splash"
    assert [mark_of(n) for n in ("kick", "ride.bow", "tom1.rim", "hat.pedal")] == ["dash", "cross", "wedge", "bracket"]
    assert [family_of(n) for n in ("tom5.head", "china", "claps", "zither")] == ["tom", "cymbal", "percussion", "other"]
    assert is_articulation("zither.low")
    assert not is_articulation("a.b.c")


@pytest.mark.parametrize(("closed_at", "open_at"), [(127, 0), (0, 127), (0, 90), (20, 110)])
def test_the_pedal_works_in_either_polarity(closed_at, open_at):
    hat = HatPedal(4, closed_at, open_at)
    assert (hat.closedness(closed_at), hat.closedness(open_at)) == (1.0, 0.0)
    low, high = sorted((closed_at, open_at))
    assert [hat.value(hat.closedness(v)) for v in range(low, high + 1)] == list(range(low, high + 1))
    assert hat.closedness(127) in (0.0, 1.0)


json_values = st.recursive(
    st.none() | st.booleans() | st.integers(-300, 300) | st.floats(allow_nan=True) | st.text(max_size=6),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.sampled_from(sorted(KEYS)), inner, max_size=4),
    max_leaves=12,
)


@settings(max_examples=300, deadline=None)
@given(json_values, st.sampled_from(sorted(KEYS)), st.booleans())
def test_any_json_is_a_map_or_refused_by_name_and_settings_alike(value, key, inside):
    data = {**GOOD, key: value} if inside else value
    for read in (from_json, settings_from_json):
        try:
            read(data, "any.json")
        except (NoteMapError, SettingsError) as error:
            assert "any.json" in str(error)

from __future__ import annotations

import io
import json
import re
import time
import zipfile
from dataclasses import replace
from functools import cache

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from puresignal.core.errors import BadFileError, FileAccessError, PureSignalError
from puresignal.core.midi.events import Events
from puresignal.core.midi.standard_midi_file import to_take
from puresignal.core.path.cleaning_path import make_context, run
from puresignal.core.path.verdicts import Verdict
from puresignal.core.session import session as edits
from puresignal.core.session.take_ref import TakeRef
from puresignal.demo import demo_session as demo
from puresignal.io import limits, midi_reader, session_file, take_file


@pytest.fixture(scope="module")
def demo_session():
    session, takes = demo.build()
    session = edits.with_title(session, "snare", "Snare, close")
    session = edits.with_verdict(session, takes[0].ident, 40, Verdict(keep=False))
    session = edits.with_split(session, "family")
    return session, {t.ident: t for t in takes}


def zipped(entries: dict[str, bytes]) -> bytes:
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in entries.items():
            archive.writestr(name, content)
    return buffer.getvalue()


def entries_of(content: bytes) -> dict[str, bytes]:
    with zipfile.ZipFile(io.BytesIO(content)) as archive:
        return {name: archive.read(name) for name in archive.namelist()}


def changed(content: bytes, **fields: object) -> bytes:
    entries = entries_of(content)
    data = json.loads(entries["session.json"])
    data.update(fields)
    return zipped({**entries, "session.json": json.dumps(data).encode()})


def same_events(a: Events, b: Events) -> bool:
    return all((getattr(a, n) == getattr(b, n)).all() for n in Events.DTYPES)


def test_a_session_comes_back_as_it_was_and_decides_the_same(demo_session, tmp_path, kit_file):
    session, takes = demo_session
    content = kit_file.read_bytes()
    imported = to_take(midi_reader.parse(content, "r.mid"), "take9", "rehearsal", content)
    session = edits.with_take(session, TakeRef("take9", "rehearsal", session.takes[0].source))
    takes = {**takes, "take9": imported}
    path = tmp_path / "evening.puresignal"
    session_file.write(path, session, takes)
    opened = session_file.read(path)
    assert opened.session == session
    assert opened.notice is None
    for take in opened.takes:
        before = takes[take.ident]
        assert same_events(take.events, before.events)
        assert take.payloads == before.payloads
        assert (take.tempo, take.ports, take.original) == (before.tempo, before.ports, before.original)
        ref = session.take(take.ident)
        outcomes = [
            run(t, session.path, make_context(t, ref.source, session.target, session.path)) for t in (take, before)
        ]
        assert (outcomes[0].output_notes.start == outcomes[1].output_notes.start).all()
        assert (outcomes[0].output_notes.note == outcomes[1].output_notes.note).all()


def test_saving_twice_gives_the_same_bytes_and_keeps_the_last_good_copy(demo_session, tmp_path):
    session, takes = demo_session
    path = tmp_path / "evening.puresignal"
    session_file.write(path, session, takes)
    first = path.read_bytes()
    session_file.write(path, edits.with_name(session, "Later"), takes)
    assert path.with_name("evening.puresignal.last").read_bytes() == first
    assert session_file.to_bytes(session, takes) == first


def test_a_recorded_take_keeps_system_messages_and_every_time(demo_session):
    _, takes = demo_session
    take = next(iter(takes.values()))
    again = take_file.captured(take_file.to_bytes(take), take.ident, take.name, take.tempo)
    assert same_events(again.events, take.events)
    assert again.payloads == take.payloads
    assert 0xFE in again.events.status


def test_a_later_version_opens_read_only(demo_session):
    session, takes = demo_session
    opened = session_file.parse(changed(session_file.to_bytes(session, takes), version=9), "x.puresignal")
    assert opened.session == session
    assert "later version" in opened.notice


def test_a_later_version_that_cannot_be_understood_says_update(demo_session):
    session, takes = demo_session
    content = changed(session_file.to_bytes(session, takes), version=9, takes={"new": "kind"})
    with pytest.raises(BadFileError, match=r"version 9.*Update"):
        session_file.parse(content, "x.puresignal")


@pytest.mark.parametrize(("field", "value"), [("format", "other"), ("version", "1"), ("takes", None), ("materials", 4)])
def test_what_is_no_session_is_one_clear_sentence(demo_session, field, value):
    session, takes = demo_session
    with pytest.raises(PureSignalError) as raised:
        session_file.parse(changed(session_file.to_bytes(session, takes), **{field: value}), "x.puresignal")
    assert "x.puresignal" in str(raised.value)
    assert raised.value.args[2].endswith(".")


TAKE = {"ident": "take1", "name": "x", "kind": "played"}


@pytest.mark.parametrize(
    ("field", "value", "named"),
    [
        ("name", 4, "name"), ("takes", [TAKE, {"ident": "../../x"}], r"takes\[1\].ident"),
        ("takes", [TAKE, 7], r"takes\[1\]"), ("view", {"current": "gone"}, "view.current"),
        ("tracks", {"a": 1}, "tracks"), ("track_order", [3], "track_order"), ("with_tempo", "no", "with_tempo"),
        ("tracks", [{"key": "snare", "channel": 17}], r"tracks\[0\]"), ("path", {}, "path"),
        ("target", {"name": "x"}, "target"), ("takes", [TAKE, {**TAKE, "kind": "strange"}], r"takes\[1\].kind"),
        ("takes", [TAKE, {**TAKE, "ident": "b", "material": "c"}], r"takes\[1\].material"),
        ("takes", [TAKE, TAKE], r"takes\[1\].ident"), ("takes", [TAKE, {**TAKE, "beat": "four"}], r"takes\[1\].beat"),
        ("takes", [TAKE, {**TAKE, "beat": 1e30}], "beat"), ("takes", [TAKE, {**TAKE, "follows": "me"}], "follows"),
        ("takes", [TAKE, {**TAKE, "in": 1}], "in"), ("takes", [{**TAKE, "verdicts": [{"notes": [-1]}]}], "verdicts"),
        ("takes", [TAKE, {**TAKE, "passes": [{"begin": 1}]}], "passes"),
        ("takes", [TAKE, {**TAKE, "begin": "x"}], "begin"),
        ("takes", [TAKE, {**TAKE, "kind": "drawn", "drawn": [[1, 2]]}], "drawn"),
        ("takes", [TAKE, {**TAKE, "kind": "sound", "sound": {"path": 4}}], "sound"),
        ("materials", [{**TAKE, "tempo": {"ppq": 480}}, {**TAKE, "ident": "b", "tempo": {"ppq": 0}}], "tempo"),
        ("materials", [{**TAKE, "tempo": {"ppq": 480}}, {**TAKE, "ident": "b", "tempo": {"ppq": 9, "tempos": [[1]]}}],
         "tempo"),
        ("timeline", {"tempos": [[0, 0, False]], "meters": []}, r"timeline.tempos\[0\]"),
        ("timeline", {"tempos": [[0, 10_000, False]], "meters": []}, r"timeline.tempos\[0\]"),
        ("timeline", {"tempos": [], "meters": [[1.5, 4, 4]]}, r"timeline.meters\[0\]"),
        ("timeline", {"tempos": [], "meters": [[1, 4, 5]]}, r"timeline.meters\[0\]"),
        ("timeline", {"tempos": 3, "meters": []}, "timeline.tempos"), ("timeline", 7, "timeline"),
        ("loop", [4, 2], "loop"), ("sections", [{"ident": "a", "name": "Verse", "bar": 1, "bars": 0}], "sections"),
        ("destinations", [{"name": "room", "channel": 17}], "destinations"), ("sends", [{"from": "kick"}], "sends"),
        ("alternatives", [{"name": "x", "takes": ["take1"], "choice": [[1]]}], "alternatives"),
        ("inputs", [{"port": 4}], "inputs"), ("key", ["D"], "key"),
    ],
)  # fmt: skip
def test_a_wrong_field_is_one_clear_sentence_and_the_rest_opens(demo_session, field, value, named):
    session, takes = demo_session
    content = changed(session_file.to_bytes(session, takes), **{field: value})
    opened = session_file.parse(content, "x.puresignal")
    assert re.search(named, opened.problems[0]), opened.problems
    assert "x.puresignal" in opened.problems[0]
    assert len(opened.problems[0]) < 900
    # Read-only, so that the file keeps what this program could not read.
    assert "save under another name" in opened.notice
    assert opened.session.take("take1") is not None
    assert len(opened.takes[0].events) > 1000


@pytest.mark.parametrize("entry", [None, b"MThd", b""])
def test_a_take_whose_material_is_gone_keeps_its_place_and_settings(demo_session, entry):
    session, takes = demo_session
    session = edits.with_take(session, TakeRef("twice", "Once more", material="take1", beat=16.0))
    parts = entries_of(session_file.to_bytes(session, {**takes, "b": replace(takes["take1"], ident="b")}))
    if entry is None:
        del parts["takes/take1.mid"]
    else:
        parts["takes/take1.mid"] = entry
    opened = session_file.parse(zipped(parts), "x.puresignal")
    assert "take1.mid" in opened.problems[0]
    assert [ref.beat for ref in opened.session.takes] == [0.0, 16.0]
    by_ident = {take.ident: take for take in opened.takes}
    assert len(by_ident["take1"].events) == 0
    assert len(by_ident["b"].events) > 1000


@pytest.mark.parametrize("name", ["../out.mid", "/etc/passwd", "takes/../../x.mid", "takes/a/b.mid", "other.txt"])
def test_names_that_point_outside_are_refused(demo_session, name):
    session, takes = demo_session
    entries = entries_of(session_file.to_bytes(session, takes))
    with pytest.raises(BadFileError, match="no session has"):
        session_file.parse(zipped({**entries, name: b"x"}), "x.puresignal")


def test_sizes_out_of_bounds_are_refused_before_they_are_unpacked(demo_session, monkeypatch):
    session, takes = demo_session
    content = session_file.to_bytes(session, takes)
    monkeypatch.setattr(limits, "MIDI_BYTES", 1000)
    with pytest.raises(BadFileError, match="larger than"):
        session_file.parse(content, "x.puresignal")


def test_ten_hours_of_a_busy_kit_are_within_the_limits():
    # Pads and pedal: 400 messages a second of four bytes, and a decision on one hit in a hundred.
    assert limits.MIDI_BYTES > 10 * 3600 * 400 * 4
    assert limits.JSON_ITEMS > 200_000 * 4


@pytest.mark.parametrize("content", [
    b'{"takes":[' + b"{}," * 20_000_000 + b"{}]}", b"[" + b'"",' * 10_000_000 + b'""]', b" " * (17 << 20),
])  # fmt: skip
def test_a_small_zip_that_unpacks_to_far_more_than_a_session_is_refused_at_once(content):
    bomb = zipped({"session.json": content})
    assert len(bomb) < 200_000
    began = time.process_time()
    with pytest.raises(BadFileError):
        session_file.parse(bomb, "x.puresignal")
    assert time.process_time() - began < 2.0


def test_thousands_of_tracks_are_read_in_linear_time(demo_session):
    session, takes = demo_session
    rows = [{"key": f"{n}/1", "title": "x"} for n in range(10_000)]
    began = time.process_time()
    opened = session_file.parse(changed(session_file.to_bytes(session, takes), tracks=rows), "x.puresignal")
    assert time.process_time() - began < 2.0
    assert len(opened.session.delivery.tracks) == 10_000
    one_more = changed(session_file.to_bytes(session, takes), tracks=[*rows, rows[0]])
    assert "tracks" in session_file.parse(one_more, "x.puresignal").problems[0]


@pytest.mark.parametrize(
    ("field", "value"),
    [("view", []), ("view", {"current": []}), ("name", "n" * 100_000), ("takes", [{"ident": ["a"]}]),
     ("order", {"a": 1}), ("target", [[]]), ("path", [1]), ("sound", {"kit": "x", "drums": {"k" * 100_000: 1}}),
     ("inputs", [[]] * 300)],
)  # fmt: skip
def test_values_of_the_wrong_kind_are_told_in_a_few_words(demo_session, field, value):
    session, takes = demo_session
    opened = session_file.parse(changed(session_file.to_bytes(session, takes), **{field: value}), "x.puresignal")
    assert 0 < len(opened.problems[0]) < 900
    assert len(opened.notice) < 1200


def test_an_origin_beyond_any_take_and_half_a_character(demo_session):
    session, takes = demo_session
    data = json.loads(entries_of(session_file.to_bytes(session, takes))["session.json"])
    data["takes"][0]["verdicts"] = [{"notes": [10**30], "keep": True}]
    opened = session_file.parse(changed(session_file.to_bytes(session, takes), takes=data["takes"]), "x.puresignal")
    assert "verdicts" in opened.problems[0]
    half = entries_of(session_file.to_bytes(session, takes))
    half["session.json"] = half["session.json"].replace(b'"name": "', b'"name": "\\ud800', 1)
    opened = session_file.parse(zipped(half), "x.puresignal")
    session_file.to_bytes(opened.session, {take.ident: take for take in opened.takes})


def test_an_entry_with_a_false_size_is_refused():
    bomb = zipped({"session.json": b" " * 100_000})
    at = bomb.rfind(b"PK\x01\x02")
    lying = bytearray(bomb)
    lying[at + 24 : at + 28] = (10).to_bytes(4, "little")
    with pytest.raises(BadFileError, match=r"x\.puresignal"):
        session_file.parse(bytes(lying), "x.puresignal")


@pytest.mark.parametrize("content", [b"", b"text", b"PK\x03\x04broken", zipped({}), zipped({"session.json": b"[1,"})])
def test_other_files_are_refused_as_sessions(content):
    with pytest.raises(BadFileError, match=r"x\.puresignal"):
        session_file.parse(content, "x.puresignal")


@cache
def written_demo(takes_too):
    session, takes = demo.build()
    if takes_too:
        return session_file.to_bytes(session, {t.ident: t for t in takes})
    return session_file.to_bytes(replace(session, takes=()), {})


@settings(max_examples=60, deadline=None)
@given(st.data())
def test_a_damaged_session_is_read_or_refused(data):
    content = bytearray(written_demo(data.draw(st.booleans())))
    for _ in range(data.draw(st.integers(1, 5))):
        content[data.draw(st.integers(0, len(content) - 1))] = data.draw(st.integers(0, 255))
    try:
        session_file.parse(bytes(content), "x.puresignal")
    except PureSignalError as error:
        assert "x.puresignal" in str(error)


def test_a_damaged_list_of_contents_is_reported_as_damage(demo_session):
    session, takes = demo_session
    content = bytearray(session_file.to_bytes(session, takes))
    end = content.rfind(b"PK\x05\x06")
    for place in range(end, len(content)):
        for value in (0, 1, 127, 255):
            spoilt = bytearray(content)
            spoilt[place] = value
            try:
                session_file.parse(bytes(spoilt), "x.puresignal")
            except PureSignalError as error:
                assert "x.puresignal" in str(error)


def test_a_missing_file_is_reported(tmp_path):
    with pytest.raises(FileAccessError, match="no such file"):
        session_file.read(tmp_path / "none.puresignal")


def test_saved_files_fit_the_published_schemas(demo_session):
    from importlib import resources

    import jsonschema
    from referencing import Registry, Resource

    folder = resources.files("puresignal") / "schemas"
    schemas = {e.name: json.loads(e.read_text()) for e in folder.iterdir() if e.name.endswith(".json")}
    registry = Registry().with_resources((name, Resource.from_contents(s)) for name, s in schemas.items())
    session, takes = demo_session
    data = json.loads(entries_of(session_file.to_bytes(session, takes))["session.json"])
    jsonschema.Draft202012Validator(schemas["session.schema.json"], registry=registry).validate(data)
    data["path"]["doubles"]["ratio"] = 3
    with pytest.raises(jsonschema.ValidationError):
        jsonschema.Draft202012Validator(schemas["session.schema.json"], registry=registry).validate(data)

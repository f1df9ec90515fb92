"""`pure-signal render`: the files are measured - length, level, tail, silence - and none is half there."""

from __future__ import annotations

import numpy as np
import pytest
import soundfile

from puresignal import cli
from puresignal.commands import rendering
from puresignal.commands.rendering import Renderer, RenderJob, StoppedError
from puresignal.core.errors import FileAccessError
from puresignal.core.export.playback_events import score
from puresignal.core.session import session as edits
from puresignal.core.session.arrangement import Section
from puresignal.core.session.backing_track import Backing
from puresignal.core.sound.mixer import Mixer, SampleBank
from puresignal.io import audio_file, session_file
from tests.commands.test_export import SESSION, TAKES

RATE = 48_000


def rendered(job, folder, session=SESSION, takes=TAKES):
    """(name without ending, sound) of every file."""
    found = rendering.parts(session, takes, job)
    renderer, made = Renderer(session, takes, job), {}
    for part, name in zip(found, rendering.names(session, found, job), strict=True):
        done = renderer.render(part, folder / name)
        sound, rate = soundfile.read(folder / name, always_2d=True)
        assert rate == job.rate
        assert len(sound) == pytest.approx(done.seconds * rate, abs=2500 if job.kind == "mp3" else 1)
        made[part.name] = sound
    assert not list(folder.glob(".*"))
    return made


def test_the_mix_sounds_as_playback_does_and_the_same_each_time(tmp_path):
    job = RenderJob(tail=False, kind="wav32f")
    one = rendered(job, tmp_path)["mix"]
    (tmp_path / "again").mkdir()
    assert np.array_equal(one, rendered(job, tmp_path / "again")["mix"])
    # The same messages through the built-in sound as the playback has it, in its blocks of 256 frames.
    made = Renderer(SESSION, TAKES, job).made(tuple(ref.ident for ref in SESSION.takes))
    played = score(made.outcome, SESSION.delivery, ("Built-in sound",), "Built-in sound")
    bank = SampleBank(RATE)
    bank.prepare(dict.fromkeys(pad.articulation for pad in SESSION.target.pads))
    mixer = Mixer(bank, SESSION.target)
    mixer.level = SESSION.sound.level
    parts, row = [], 0
    for begin in range(0, len(one), 256):
        rows = []
        while row < len(played.at) and played.at[row] < (begin + 256) / RATE:
            _, *message = played.data[row].tolist()
            rows.append((min(255, max(0, round(played.at[row] * RATE) - begin)), bytes(message)))
            row += 1
        parts.append(mixer.render(256, rows))
    live = np.concatenate(parts, axis=1).T[: len(one)]
    for begin in range(0, len(one) - RATE, RATE):
        a, b = (np.sqrt((sound[begin : begin + RATE] ** 2).mean()) for sound in (one, live))
        assert 20 * np.log10(a / b) == pytest.approx(0, abs=0.1)


def test_tracks_add_up_to_the_mix(tmp_path):
    mix = rendered(RenderJob(kind="wav32f"), tmp_path)["mix"]
    tracks = rendered(RenderJob("tracks", "wav32f"), tmp_path)
    assert {"Kick", "Snare"} <= set(tracks)
    total = np.zeros_like(mix)
    for sound in tracks.values():
        total[: len(sound)] += sound[: len(total)]
    body = slice(0, len(mix) - RATE)
    loud = np.abs(mix[body]) < 0.6
    assert np.abs(total[body] - mix[body])[loud].max() < 2e-3


@pytest.mark.parametrize("kind", ["wav16", "wav24", "flac", "ogg", "mp3"])
def test_every_format_holds_the_same_sound(tmp_path, kind):
    exact = rendered(RenderJob(kind="wav32f", rate=44_100), tmp_path)["mix"]
    sound = rendered(RenderJob(kind=kind, rate=44_100), tmp_path)["mix"]
    a, b = (np.sqrt((s[44_100:132_300] ** 2).mean()) for s in (exact, sound))
    assert 20 * np.log10(a / b) == pytest.approx(0, abs=0.3)


def test_normalised_files_reach_the_top_and_sixteen_bits_are_dithered(tmp_path):
    sound = rendered(RenderJob(kind="wav24", normalise=True), tmp_path)["mix"]
    assert 20 * np.log10(np.abs(sound).max()) == pytest.approx(-0.3, abs=0.02)
    plain = rendered(RenderJob("takes", "wav16", dither=False), tmp_path)["Bass line"]
    (tmp_path / "d").mkdir()
    soft = rendered(RenderJob("takes", "wav16"), tmp_path / "d")["Bass line"]
    steps = np.abs(np.rint((soft - plain) * 32768))
    assert steps.max() <= 2
    assert 0.3 < (steps > 0).mean() < 0.9


def test_bars_sections_tail_and_trim(tmp_path):
    session = edits.with_timeline(SESSION, None)
    timeline = Renderer(session, TAKES, RenderJob()).made(tuple(r.ident for r in session.takes)).timeline
    bar = float(np.diff(timeline.beats_to_seconds(np.array([0.0, 4.0])))[0])
    two = rendered(RenderJob(bars=(2, 3), tail=False), tmp_path, session)["mix"]
    assert len(two) / RATE == pytest.approx(2 * bar, abs=0.01)
    (tmp_path / "tail").mkdir()
    longer = rendered(RenderJob(bars=(2, 3)), tmp_path / "tail", session)["mix"]
    assert np.array_equal(longer[: len(two)], two)
    # The tail fades until nothing is heard of it.
    assert len(longer) > len(two) + RATE // 4
    assert np.abs(longer[-1000:]).max() < 2e-3
    from dataclasses import replace

    parted = replace(session, sections=(Section("a", "Verse", 1, 2), Section("b", "Chorus: end/of it", 3, 2)))
    both = rendered(RenderJob("sections", tail=False), tmp_path, parted)
    assert [round(len(s) / RATE / bar, 2) for s in both.values()] == [2.0, 2.0]
    assert (tmp_path / "Quarter Past Ferry - Chorus- end-of it.wav").exists()


def test_a_recording_sounds_along_in_its_place(tmp_path):
    tone = 0.5 * np.sin(2 * np.pi * 1000 * np.arange(RATE) / RATE).astype(np.float32)
    audio_file.write_wav(tmp_path / "tone.wav", tone, RATE)
    session = edits.with_sound_take(SESSION, Backing(str(tmp_path / "tone.wav"), level=0.0), 4.0)
    ident = session.takes[-1].ident
    job = RenderJob("takes", "wav32f", tail=False)
    part = next(p for p in rendering.parts(session, TAKES, job) if p.takes == (ident,))
    Renderer(session, TAKES, job).render(part, tmp_path / "out.wav")
    sound = soundfile.read(tmp_path / "out.wav")[0][:, 0]
    begin = int(np.flatnonzero(np.abs(sound) > 0.01)[0]) / RATE
    timeline = Renderer(session, TAKES, job).made((ident,)).timeline
    assert begin == pytest.approx(float(timeline.beats_to_seconds(np.array([4.0]))[0]), abs=0.002)
    assert np.abs(sound).max() == pytest.approx(0.5 * session.sound.level, abs=0.01)


def test_a_cancelled_or_failing_render_leaves_nothing_half_written(tmp_path):
    job = RenderJob()
    renderer, (part,) = Renderer(SESSION, TAKES, job), rendering.parts(SESSION, TAKES, job)
    told = []

    def progress(done):
        told.append(done)
        return done < 0.3

    with pytest.raises(StoppedError):
        renderer.render(part, tmp_path / "out.wav", progress)
    assert list(tmp_path.iterdir()) == []
    assert told == sorted(told)
    with pytest.raises(FileAccessError):
        renderer.render(part, tmp_path / "no folder" / "out.wav")
    before = b"what was there"
    (tmp_path / "kept.wav").write_bytes(before)
    with pytest.raises(StoppedError):
        renderer.render(part, tmp_path / "kept.wav", progress)
    assert (tmp_path / "kept.wav").read_bytes() == before


def test_the_command_writes_files_and_says_what_is_wrong(tmp_path, capsys):
    path = tmp_path / "ferry.puresignal"
    session_file.write(path, SESSION, TAKES)
    out = tmp_path / "mix.flac"
    assert cli.main(["render", str(path), "--out", str(out), "--bars", "1-2"]) == 0
    assert soundfile.info(out).format == "FLAC"
    assert "peak -" in capsys.readouterr().out
    assert cli.main(["render", str(path), "--out", str(out)]) == 1
    assert "--force" in capsys.readouterr().err
    assert cli.main(["render", str(path), "--out", f"{tmp_path}/parts/", "--per", "takes", "--names", "{number}"]) == 0
    assert sorted(p.name for p in (tmp_path / "parts").iterdir()) == ["01.wav", "02.wav"]
    assert cli.main(["render", str(path), "--out", f"{tmp_path}/none/", "--per", "sections"]) == 1
    assert "Make sections" in capsys.readouterr().err
    with pytest.raises(SystemExit):
        cli.main(["render", str(path), "--out", str(out), "--bars", "4-2"])


def test_names_are_made_safe_and_different():
    job = RenderJob("takes", pattern="../{name}")
    parts = [rendering.Part(name, i, ("x",)) for i, name in enumerate(("a/b", "a/b", "x" * 300, "..."), 1)]
    names = rendering.names(SESSION, parts, job)
    assert len(set(names)) == 4
    assert all("/" not in name and not name.startswith(".") and len(name) < 150 for name in names)

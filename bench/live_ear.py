"""The live ear on recordings it was not trained on (support/evaluation_clips.py): `live_ear.py [hits melody drawn]`.

hits: F1 of taught spoken syllables with six and three examples, live and offline, and the delay of a hit after its
onset, including the block. melody: agreement of the settled notes with the offline ones, the delay of a note (also from
the moment it is audible: within 20 dB of its own loudest level), and the share of a core. drawn: notes of random
synthesised instruments reported within 60 ms, and reports per note.
"""

from __future__ import annotations

import sys
import time

import numpy as np
import soxr
from hearing import Row, at, matched, pitched, score
from support import evaluation_clips

from puresignal.core.hearing.melody import candidates, live_melody
from puresignal.core.hearing.melody import notes as melody_notes
from puresignal.core.hearing.networks import live_pitch
from puresignal.core.hearing.percussion import example_classifier, live_hits, stroke_features
from puresignal.core.hearing.transcribed import TranscribedNotes
from puresignal.core.session.settled import SURE_HIT, compare
from puresignal.io.models import conv_net, dense_net, feature_space, live_feature_space, pitch_networks
from puresignal.sim import instrument_synthesis

BLOCK = 256


def hits() -> None:
    spoken = [*evaluation_clips.beats(), *evaluation_clips.mouths()]
    for count in (6, 3):
        live_f, offline_f, after_f, delays = [], [], [], []
        for clip, said in spoken:
            own = {
                name: [np.asarray(soxr.resample(s, clip.rate, stroke_features.RATE)) for s in takes[:count]]
                for name, takes in said.items()
            }
            samples, truth = at(clip, stroke_features.RATE), [(s, e, w) for s, e, w, _ in clip.notes]
            known = live_hits.teach(live_feature_space(), own)
            live, heard = live_hits.LiveHits(known), []
            for begin in range(0, len(samples), BLOCK):
                for hit in live.feed(samples[begin : begin + BLOCK]):
                    heard.append((hit.start, hit.start, known.names[hit.sound]))
                    delays.append((begin + BLOCK) / stroke_features.RATE - hit.start)
            live_f.append(score(truth, heard))
            slow = example_classifier.teach(
                feature_space(), {n: [example_classifier.example(s) for s in takes] for n, takes in own.items()}
            )
            found = example_classifier.hits(slow, stroke_features.analyse(samples)).kept()
            rows = zip(found.start.tolist(), found.kind.tolist(), strict=True)
            offline_f.append(score(truth, [(s, s, slow.names[k]) for s, k in rows]))
            # What the window makes of it when the recording is over; numbers stand for names.
            number = {name: k for k, name in enumerate(slow.names)}
            marked = np.array([(s, number.get(w, 99)) for s, _, w in heard], float).reshape(-1, 2)
            whole = np.column_stack((found.start, found.start, found.kind, found.confidence))
            told = compare(marked, whole, 127, SURE_HIT)
            after = [
                (s + told.shifted.get(i, 0.0), s, slow.names[number.get(w, 99) + told.moved.get(i, 0)])
                for i, (s, _, w) in enumerate(heard) if i not in told.gone
            ] + [(found.start[j], 0.0, slow.names[found.kind[j]]) for j in told.missed]  # fmt: skip
            after_f.append(score(truth, after))
        print(
            f"hits, {count} examples each: live {np.mean(live_f):.3f}, offline {np.mean(offline_f):.3f}, corrected "
            f"{np.mean(after_f):.3f} (worst {min(live_f):.2f}, {min(after_f):.2f}); told "
            f"{1000 * np.median(delays):.1f} ms after the beginning, at most {1000 * max(delays):.1f}, "
            f"of which up to {1000 * BLOCK / stroke_features.RATE:.1f} are the block"
        )


def tune(kind: str) -> None:
    alike, live_f, offline_f, quick_f, late, heard_late, waits = [], [], [], [], [], [], []
    before_f, after_f = [], []
    spent = seconds = 0.0
    for clip in getattr(evaluation_clips, kind)():
        samples, truth = at(clip, candidates.RATE), [(s, e, w) for s, e, w, _ in clip.notes]
        decided = melody_notes.decide(candidates.analyse(conv_net("onset"), pitch_networks(), samples)).kept()
        offline = pitched(decided)
        whole = [row[:4] for row in offline]
        live = live_melody.LiveMelody(conv_net("onset"), pitch_networks(), dense_net("live_pitch"))
        told: list[Row] = []
        marked: list[tuple[float, float]] = []
        parts = []
        began = time.perf_counter()
        for begin in range(0, len(samples), BLOCK // 2):
            now = (begin + BLOCK // 2) / candidates.RATE
            begun = [e for e in live.feed(samples[begin : begin + BLOCK // 2]) if e.velocity]
            told += [(now, now, e.number) for e in begun]
            marked += [(e.at, float(e.number)) for e in begun]
            parts.append(live.settled())
            waits += (now - parts[-1].end).tolist()
        live.end()
        parts.append(live.settled())
        spent += time.perf_counter() - began
        seconds += len(samples) / candidates.RATE
        settled = pitched(TranscribedNotes.join([p for p in parts if len(p)]).kept())
        alike.append(score(offline, settled))
        live_f.append(score(truth, settled))
        offline_f.append(score(truth, offline))
        # At once: the same pitch, reported within a tenth of a second.
        pairs = matched([(s + 0.05, e, w) for s, e, w in truth], told)
        quick_f.append(2 * len(pairs) / max(1, len(truth) + len(told)))
        # What the window makes of it when the recording is over.
        found = compare(np.array(marked).reshape(-1, 2), np.array(whole).reshape(-1, 4))
        after = [
            (when + found.shifted.get(i, 0.0), when, number + found.moved.get(i, 0))
            for i, (when, number) in enumerate(marked) if i not in found.gone
        ] + [offline[j] for j in found.missed]  # fmt: skip
        before_f.append(score(truth, [(when, when, number) for when, number in marked]))
        after_f.append(score(truth, after))
        sounds_after = clip.sounds_after()
        own = [(told[j][0] - truth[i][0], sounds_after[i]) for i, j in pairs if truth[i][2] > 45]
        late += [wait for wait, _ in own]
        heard_late += [wait - after for wait, after in own]
    print(
        f"{kind}: settled {np.mean(live_f):.3f}, offline {np.mean(offline_f):.3f}, alike {np.mean(alike):.3f}; settled "
        f"at most {max(waits):.2f} s after the end. At once {np.mean(quick_f):.3f}, told after "
        f"{1000 * np.median(late):.0f} ms (a quarter after {1000 * np.quantile(late, 0.25):.0f}, three after "
        f"{1000 * np.quantile(late, 0.75):.0f}); {100 * np.mean(np.array(late) < 0.04):.0f} % within 40 ms, "
        f"{100 * np.mean(np.array(heard_late) < 0.04):.0f} % of when they can be heard; "
        f"{100 * spent / seconds:.0f} % of a core; as told {np.mean(before_f):.3f}, corrected {np.mean(after_f):.3f}"
    )


def drawn() -> None:
    true = soon = reported = 0
    for seed in (901, 902, 904, 905, 907):
        random = np.random.default_rng(seed)
        notes = instrument_synthesis.a_line(random, 6.0, 50, 70)
        sound = instrument_synthesis.play(notes, instrument_synthesis.any_timbre(random, 0.4), live_pitch.RATE, seed)
        live, heard = live_melody.LiveNotes(dense_net("live_pitch")), []
        samples = instrument_synthesis.in_a_room(sound, live_pitch.RATE, random)
        for begin in range(0, len(samples), BLOCK):
            heard += [(e.at, e.number) for e in live.feed(samples[begin : begin + BLOCK]) if e.velocity]
        true, reported = true + len(notes), reported + len(heard)
        soon += sum(any(n == number and start < at < start + 0.06 for at, n in heard) for start, _, number, _ in notes)
    print(f"drawn instruments: {100 * soon / true:.0f} % within 60 ms, {reported / true:.2f} reports per note")


def main() -> None:
    wanted = sys.argv[1:] or ["hits", "melody", "drawn"]
    if "hits" in wanted:
        hits()
    if "melody" in wanted:
        tune("melodies")
        tune("singing")
    if "drawn" in wanted:
        drawn()


if __name__ == "__main__":
    main()

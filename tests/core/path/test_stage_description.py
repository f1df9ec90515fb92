"""A stage describes itself: everything that shows, reads or documents it follows from its declaration."""

from __future__ import annotations

import json
from importlib import resources
from pathlib import Path

import jsonschema
import numpy as np
import pytest

from puresignal.core.errors import SettingsError
from puresignal.core.path import settings_json
from puresignal.core.path.cleaning_path import CleaningPath, LivePath, make_context, run
from puresignal.core.path.setting import Scope, settings_of
from puresignal.core.path.stage_description import Reason, Stage
from puresignal.demo import demo_session
from tests.core.path.extra_stage import BRUSHED, Brushed, LongerPath

HEAD = {"format": "pure-signal/settings", "version": 1}
ROOT = Path(__file__).parent.parent.parent.parent


def outcome_of(path):
    session, takes = demo_session.build()
    take, ref = takes[0], session.take(takes[0].ident)
    context = make_context(take, ref.source, session.target, path)
    return run(take, path, context), context


def test_a_new_stage_removes_is_counted_and_traced_in_its_words():
    plain, _ = outcome_of(CleaningPath())
    loudest = np.sort(plain.output_notes.velocity)[40]
    outcome, _ = outcome_of(LongerPath(brushed=Brushed(least=float(loudest))))
    gone = outcome.tally.removed()[BRUSHED]
    assert gone == int((plain.output_notes.velocity < loudest).sum()) > 0
    assert outcome.tally.balances()
    assert outcome.tally.touched(Brushed.stage) == gone
    step = outcome.tally.trace(int(outcome.tally.origins(1, BRUSHED)[0]))[-1]
    assert (step.stage.word, step.reason.word) == ("brushes", "brushed")
    assert step.stage is Brushed.stage
    assert step.reason is BRUSHED


def test_what_is_not_causal_is_passed_over_live():
    _, context = outcome_of(LongerPath())
    causal = [stage for stage in CleaningPath().stages() if stage.stage.causal]
    assert len(LivePath(LongerPath(), context).stages) == len(causal)


def test_settings_of_each_scope_apply_to_what_they_name():
    _, takes = demo_session.build()
    port = takes[0].ports[0].name
    plain, _ = outcome_of(CleaningPath())
    one = int(plain.output_notes.origin[0])
    data = {
        **HEAD,
        "brushed": {"least": 0, "by_way": {"value": 0, "articulations": {"snare": 127, "snare.rim": 0}}},
        "brushed.by_input": {"value": 0, "inputs": {port: 1}},
        "brushed.by_track": {"value": 0, "tracks": {"kick": 20}},
        "brushed.by_notes": {"value": 0, "notes": [{"origins": [one], "value": 127}]},
    }
    jsonschema.validate(data, settings_json.schema(LongerPath()))
    path = settings_json.from_json(data, "here", LongerPath())
    assert settings_json.from_json(settings_json.to_json(path), "here", LongerPath()) == path
    jsonschema.validate(settings_json.to_json(path), settings_json.schema(LongerPath()))
    outcome, context = outcome_of(path)
    removed = set(outcome.tally.origins(1, BRUSHED).tolist())
    expected = set()
    before = plain.output_notes
    for row in range(len(before)):
        name = context.vocabulary[int(before.articulation[row])]
        key = context.tracks[int(before.track[row])].key
        limit = 1.0 + 20 * (key == "kick") + 127 * (name.startswith("snare") and name != "snare.rim")
        if before.velocity[row] < limit + 127 * (before.origin[row] == one):
            expected.add(int(before.origin[row]))
    assert removed == expected
    assert one in removed
    assert len(removed) > 20


@pytest.mark.parametrize(
    ("values", "says"),
    [
        ({"brushed": {"least": 61}}, '"brushed.least" is 61 (here). Write a number from 0 to 60'),
        ({"brushed.how": "sideways"}, "Write one of below, above"),
        ({"brushed.by_input": {"inputs": {"kit": 21}}}, '"brushed.by_input.inputs.kit" is 21'),
        ({"brushed.by_track": {"tracks": {"kick": "loud"}}}, "Write a number from 0 to 20"),
        ({"brushed.by_way": {"articulations": {"Snare!": 3}}}, "no articulation"),
        ({"brushed.by_way": {"inputs": {"kit": 3}}}, 'cannot be set by "inputs"'),
        (
            {"brushed.by_notes": {"notes": [{"origins": [1], "value": 1}, {"origins": [1], "value": 2}]}},
            "each note once",
        ),
        ({"brushed.by_notes": 128}, "Write a number from 0 to 127"),
        ({"brushed.volume": 3}, 'has no setting "volume"'),
        ({"brushes.on": True}, "There is no stage"),
    ],
)  # fmt: skip
def test_what_is_out_of_range_is_refused_by_name_and_by_the_schema(values, says):
    with pytest.raises(SettingsError) as refused:
        settings_json.from_json({**HEAD, **values}, "here", LongerPath())
    assert says in str(refused.value)
    if "each note once" not in says and "no articulation" not in says:
        with pytest.raises(jsonschema.ValidationError):
            jsonschema.validate({**HEAD, **values}, settings_json.schema(LongerPath()))


def test_a_stages_settings_are_in_the_table():
    rows = {name: rest for name, *rest in settings_json.table(LongerPath())}
    assert rows["brushed.least"] == ["9", "0 to 60", "Hits softer than this are removed."]
    assert rows["brushed.how"][1] == '"below", "above"'


def test_every_stage_says_what_everything_needs():
    stages = CleaningPath().stages()
    assert len({int(stage.stage) for stage in stages}) == len(stages)
    for stage in stages:
        about = stage.stage
        assert Stage.of(int(about)) is about
        assert about.word
        for setting in settings_of(stage):
            assert setting.tip, f"{about.key}.{setting.name}"
            assert setting.scope & (Scope.SESSION | Scope.ARTICULATION)
        if about.switch is not None:
            assert about.switch.name in {one.name for one in settings_of(stage)}
            assert CleaningPath().switched(about.key, False) != CleaningPath().switched(about.key, True)
        for reason in about.reasons:
            assert Reason.of(int(reason)) is reason
    outcome, _ = outcome_of(CleaningPath())
    told = {stage.stage: stage.stage.reasons for stage in stages}
    entries = outcome.tally.entries
    for stage, reason in set(zip(entries.stage.tolist(), entries.reason.tolist(), strict=True)):
        assert Reason.of(reason) in told[Stage.of(stage)]


def test_schema_and_documents_follow_the_stages():
    content = (resources.files("puresignal") / "schemas" / "settings.schema.json").read_text("utf-8")
    assert json.loads(content) == json.loads(json.dumps(settings_json.schema())), "run tools/write_settings.py"
    assert settings_json.settings_table() in (ROOT / "docs" / "formats.md").read_text("utf-8"), (
        "run tools/write_settings.py"
    )

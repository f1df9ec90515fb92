"""`--json`, `--dry-run`, `--quiet` and `--verbose`: what is said, and what is written."""

from __future__ import annotations

import json

import pytest

from puresignal import cli
from puresignal.io import session_file
from tests.commands.test_export import SESSION, TAKES


@pytest.fixture
def session(tmp_path):
    path = tmp_path / "ferry.puresignal"
    session_file.write(path, SESSION, TAKES)
    return path


def test_clean_tells_what_it_would_do_and_writes_nothing(kit_file, tmp_path, capsys):
    out = tmp_path / "out.mid"
    given = ["clean", str(kit_file), "--out", str(out), "--target-map", "general-midi"]
    report = ["--report", str(tmp_path / "r.json"), "--summary", str(tmp_path / "s.html")]
    assert cli.main([*given, *report, "--dry-run"]) == 0
    planned = capsys.readouterr().out
    assert {p.name for p in tmp_path.iterdir()} <= {kit_file.name}
    assert f"{out} would be written: in " in planned
    assert cli.main(given) == 0
    assert capsys.readouterr().out.strip().partition(": ")[2] == planned.strip().partition("written: ")[2]


def test_results_as_json_are_all_that_is_on_standard_output(kit_file, tmp_path, capsys):
    out, missing = tmp_path / "out", tmp_path / "no.mid"
    assert cli.main(["clean", str(kit_file), str(missing), "--out", f"{out}/", "--json"]) == 1
    good, bad = json.loads(capsys.readouterr().out)
    assert good["target"] == str(out / kit_file.name)
    assert good["sums"]["in"] == good["sums"]["out"] + sum(good["sums"]["removed"].values())
    assert "no.mid" in bad["error"]


@pytest.mark.parametrize("more", [[], ["--quiet"]])
def test_quiet_says_nothing_but_errors(more, kit_file, tmp_path, capsys):
    assert cli.main(["clean", str(kit_file), "--out", str(tmp_path / "out.mid"), *more]) == 0
    said = capsys.readouterr()
    assert bool(said.out or said.err) == (not more)
    assert cli.main(["clean", str(tmp_path / "no.mid"), "--out", str(tmp_path / "o.mid"), *more]) == 1
    assert "no.mid" in capsys.readouterr().err


def test_export_render_and_generate_plan_and_tell_in_json(session, tmp_path, capsys):
    for given in (
        ["export", str(session), "--out", str(tmp_path / "a.mid")],
        ["render", str(session), "--out", str(tmp_path / "stems"), "--per", "tracks"],
        ["generate", "drums", "--out", str(tmp_path / "g.mid")],
    ):
        assert cli.main([*given, "--dry-run", "--json"]) == 0
        rows = json.loads(capsys.readouterr().out)
        assert rows
        assert all(row["written"] is False for row in rows)
        assert {p.name for p in tmp_path.iterdir()} == {session.name}
    assert cli.main(["export", str(session), "--out", str(tmp_path / "a.mid"), "--json"]) == 0
    (row,) = json.loads(capsys.readouterr().out)
    assert row["takes"] == [ref.name for ref in SESSION.takes]


def test_every_command_has_an_example_that_its_own_parser_takes(capsys):
    import shlex

    parser, by_name = cli.command_parser()
    for name, command in by_name.items():
        line = command.format_help().partition("example:\n")[2].strip().splitlines()[0]
        program, *given = shlex.split(line)
        assert program == "pure-signal"
        assert parser.parse_args(given).command == name


def test_verbose_says_what_is_logged(kit_file, tmp_path, capsys, monkeypatch):
    import logging

    log = logging.getLogger("puresignal")
    before, level = list(log.handlers), log.level
    try:
        assert cli.main(["clean", str(kit_file), "--out", str(tmp_path / "out.mid"), "--verbose"]) == 0
        log.debug("a detail")
        assert "DEBUG a detail" in capsys.readouterr().err
    finally:
        log.handlers, log.level = before, level

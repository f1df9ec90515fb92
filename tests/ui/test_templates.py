"""Templates and copies from the real window's File menu."""

from __future__ import annotations

import pytest

from puresignal.io import session_file, templates
from tests.ui.test_several_takes import trio  # noqa: F401 - fixture


@pytest.fixture(autouse=True)
def home(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))


def entries(menu):
    menu.aboutToShow.emit()
    return {action.text(): action for action in menu.actions()}


def test_a_set_up_is_saved_begun_with_deleted_and_put_back(trio):  # noqa: F811
    bench = trio.workbench
    before = bench.session
    trio.files.save_template("Trio")
    entries(trio.menus.templates)["Trio"].trigger()
    now = bench.session
    assert (now.takes, now.name) == ((), "Untitled")
    assert (now.inputs, now.target, now.path, now.delivery) == (
        before.inputs, before.target, before.path, before.delivery
    )  # fmt: skip
    assert bench.file is None
    entries(trio.menus.templates)["Delete"].menu().actions()[0].trigger()
    assert templates.kept() == {}
    trio.notice.act.click()
    assert list(templates.kept()) == ["Trio"]


def test_a_copy_is_written_and_the_session_stays_its_own_file(trio, tmp_path):  # noqa: F811
    bench = trio.workbench
    trio.files.save_session_to(tmp_path / "own.puresignal")
    trio.files.save_copy_to(tmp_path / "copy.puresignal")
    assert bench.file == tmp_path / "own.puresignal"
    copy = session_file.read(tmp_path / "copy.puresignal").session
    assert [ref.name for ref in copy.takes] == [ref.name for ref in bench.session.takes]
    content = (tmp_path / "own.puresignal").read_bytes()
    trio.files.save_copy_to(tmp_path / "own.puresignal")
    assert (tmp_path / "own.puresignal").read_bytes() == content
    assert "another name" in trio.notice.text

"""Whichever call of the system is refused for want of room, the last good copy is whole and the player is told."""

from __future__ import annotations

import pytest

from tests.io.full_disk import Disk, ten_edits


@pytest.mark.parametrize("lasting", [False, True])
def test_a_full_disk_at_any_write_leaves_the_last_good_copy(lasting, tmp_path):
    # bench/full_disk.py tries each of the 111 calls.
    for number in (*range(1, 14), 33, 67):
        folder = tmp_path / str(number)
        folder.mkdir()
        disk = Disk(number, lasting)
        outcome = ten_edits(folder, disk)
        assert outcome.whole, f"call {number}"
        assert outcome.told, f"call {number}"

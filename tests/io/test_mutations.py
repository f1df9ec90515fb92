"""Damaged files are read or refused with an error of our own, at once; bench/mutations.py tries a hundred thousand."""

from __future__ import annotations

import random
import time

import pytest

from puresignal.core.errors import PureSignalError
from puresignal.io import file_access, xdg_folders
from tests.io.mutations import KINDS, Kinds


@pytest.mark.parametrize("kind", KINDS)
def test_damage_is_read_or_refused_at_once(kind, tmp_path):
    file_access.make_private(xdg_folders.config())
    kinds, draw = Kinds(tmp_path), random.Random(20)
    refused = 0
    for _ in range(120):
        read = kinds.one(kind, draw)
        began = time.process_time()
        try:
            read()
        except PureSignalError as error:
            refused += 1
            assert len(str(error)) < 900
        assert time.process_time() - began < 2.0
    assert 0 < refused < 120

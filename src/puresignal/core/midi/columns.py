"""Frozen bundles of equally long NumPy arrays, in which all notes and events travel."""

from __future__ import annotations

from dataclasses import dataclass, fields
from typing import Any, ClassVar, Self

import numpy as np


@dataclass(frozen=True, eq=False)
class Columns:
    """Base of the frozen bundles: row i of every column belongs to one thing.

    Subclasses declare their columns as fields and in `DTYPES`, one NumPy type each. Only writable columns are
    copied, so passing an unchanged column from one bundle to the next costs nothing.
    """

    DTYPES: ClassVar[dict[str, Any]] = {}

    def __post_init__(self) -> None:
        length = -1
        for field in fields(self):
            column = getattr(self, field.name)
            wanted = np.dtype(self.DTYPES[field.name])
            # A view of somebody's writable array could still change: only arrays that own their data are kept.
            if not (
                isinstance(column, np.ndarray)
                and column.dtype == wanted
                and not column.flags.writeable
                and column.base is None
            ):
                column = np.array(column, dtype=wanted)
                column.flags.writeable = False
                object.__setattr__(self, field.name, column)
            if length < 0:
                length = len(column)
            elif len(column) != length:
                raise ValueError(f"column {field.name} has {len(column)} rows, {length} expected")

    def __len__(self) -> int:
        return len(getattr(self, fields(self)[0].name))

    @classmethod
    def empty(cls) -> Self:
        return cls(**{field.name: np.zeros(0, cls.DTYPES[field.name]) for field in fields(cls)})

    def take(self, rows: np.ndarray) -> Self:
        """The chosen rows, by boolean mask or by index, in the order given."""
        chosen = {}
        for field in fields(self):
            column = getattr(self, field.name)[rows]
            column.flags.writeable = False  # ours alone if it was indexed; a slice is copied by the constructor
            chosen[field.name] = column
        return type(self)(**chosen)

    def but(self, **columns: np.ndarray) -> Self:
        """The same rows with some columns replaced."""
        return type(self)(**{field.name: columns.get(field.name, getattr(self, field.name)) for field in fields(self)})

    @classmethod
    def join(cls, parts: list[Self]) -> Self:
        """All rows of the parts, one part after the other."""
        parts = [part for part in parts if len(part)] or parts[:1]
        if len(parts) == 1:
            return parts[0]
        if not parts:
            return cls.empty()
        return cls(
            **{field.name: np.concatenate([getattr(part, field.name) for part in parts]) for field in fields(cls)}
        )


def note_keys(lane: np.ndarray, note: np.ndarray) -> np.ndarray:
    """A small integer key for each (lane, note) pair, in the order of the lanes.

    lane     (n,) 0 or more, for example port and channel in one number
    note     (n,) 0..127
    Returns  (n,) uint16 where that suffices: NumPy radix-sorts those, several times faster than wider integers
    """
    if not len(lane):
        return np.zeros(0, np.uint16)
    present = np.zeros(int(lane.max()) + 1, bool)
    present[lane] = True
    rank = np.cumsum(present) - 1
    kind = np.uint16 if int(rank[-1]) < 511 else np.int64
    keys: np.ndarray = rank.astype(kind)[lane] * kind(128) + note.astype(kind)
    return keys


def distinct(values: np.ndarray) -> np.ndarray:
    """(m,) the values without repeats, sorted.

    Like np.unique, which for its masked arrays imports a tenth of a second's worth of modules when first called
    """
    ordered = np.sort(values, axis=None)
    if len(ordered) < 2:
        return ordered
    first = np.ones(len(ordered), bool)
    first[1:] = ordered[1:] != ordered[:-1]
    return np.asarray(ordered[first])


def numbered(values: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The values without repeats, sorted, and (n,) for each value its place among them."""
    found = distinct(values)
    return found, np.searchsorted(found, values)

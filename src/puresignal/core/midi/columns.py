"""Bundles of equally long, locked NumPy arrays: the shape that all notes and events travel in."""

from __future__ import annotations

from dataclasses import dataclass, fields
from typing import Any, ClassVar, Self

import numpy as np


@dataclass(frozen=True, eq=False)
class Columns:
    """Base of the frozen bundles: row i of every column belongs to one thing.

    Subclasses name their columns as fields and give `DTYPES`, one NumPy type a
    column. Columns are copied only when they are not locked already, so passing
    an unchanged column from one bundle to the next costs nothing.
    """

    DTYPES: ClassVar[dict[str, Any]] = {}

    def __post_init__(self) -> None:
        length = -1
        for field in fields(self):
            column = getattr(self, field.name)
            wanted = np.dtype(self.DTYPES[field.name])
            # A view of somebody's writable array could still change under us: only owners may be kept.
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
            column.flags.writeable = False  # ours alone when it was indexed; a slice is copied on the way in
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
    """(n,) one small number for each pair of lane and note, in the order of the lanes.

    lane  (n,) 0 or more, such as a port and channel in one number
    note  (n,) 0..127
    Sixteen bits wherever they do: NumPy sorts those by radix, several times quicker than longer ones.
    """
    if not len(lane):
        return np.zeros(0, np.uint16)
    present = np.zeros(int(lane.max()) + 1, bool)
    present[lane] = True
    rank = np.cumsum(present) - 1
    kind = np.uint16 if int(rank[-1]) < 511 else np.int64
    keys: np.ndarray = rank.astype(kind)[lane] * kind(128) + note.astype(kind)
    return keys

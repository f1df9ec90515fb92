"""The cheapest path through notes and silence, computed for many stretches side by side.

Source  A. Viterbi, Error bounds for convolutional codes and an asymptotically optimum decoding algorithm, 1967
"""

from __future__ import annotations

import numpy as np

STRETCH, LAP, AT_ONCE = 100, 50, 256
"""Frames of one stretch; frames of context before and after it (anything farther away does not change its path);
and the number of stretches computed together.
"""


def path(cost: np.ndarray, silent: np.ndarray, turns: np.ndarray, lead: int, own: int) -> np.ndarray:
    """(own,) the cheapest state of each frame, -1 for silence.

    cost    (frames, notes) cost of each note
    silent  (frames,) cost of silence
    turns   (frames, 2) cost of changing and of entering a note
    lead    frames before the `own` ones
    """
    chunks, length = -(-own // STRETCH), STRETCH + 2 * LAP
    # Frames beyond the edges cost nothing and change nothing.
    cost, silent, turns = (_within(a, LAP - lead, (chunks + 2) * STRETCH) for a in (cost, silent, turns))
    # Data used together is stored together: the n-th frames of all stretches.
    lined, still, change_costs, enter_costs = (
        np.ascontiguousarray(a.reshape(chunks + 2, STRETCH, -1).swapaxes(0, 1), np.float32)
        for a in (cost, silent, turns[:, 0], turns[:, 1])
    )
    notes = _worth(cost, silent, chunks)
    place = np.arange(chunks)[:, None] * cost.shape[1] + notes.T
    best, new = np.zeros((length + 1, *notes.shape), np.float32), np.empty((length, chunks), np.float32)
    rest, changes, leaves = np.zeros(chunks, np.float32), *np.empty((2, length, chunks), bool)
    for i in range(length):
        row, now = i % STRETCH, slice(i // STRETCH, i // STRETCH + chunks)
        least = best[i].min(axis=0)
        change, enter = least + change_costs[row, now, 0], rest + enter_costs[row, now, 0]
        leave = least + np.float32(LEAVES)
        np.less_equal(change, enter, out=changes[i])
        np.less(leave, rest, out=leaves[i])
        np.minimum(change, enter, out=new[i])
        rest = np.minimum(rest, leave) + still[row, now, 0]
        np.minimum(best[i], new[i], out=best[i + 1])
        best[i + 1] += lined[row, now].ravel()[place].T
    columns = np.arange(chunks)
    state = np.where(best[-1].min(axis=0) < rest, best[-1].argmin(axis=0), -1)
    states = np.empty((chunks, length), np.int16)
    for i in range(length - 1, -1, -1):
        states[:, i] = state
        silence = state < 0
        comes = best[i][state, columns] > new[i]
        before = np.where(comes, -1, state)
        # Few states change at any moment, so only those look for their predecessor.
        turned = np.flatnonzero(np.where(silence, leaves[i], comes & changes[i]))
        before[turned] = best[i][:, turned].argmin(axis=0)
        state = before
    own_notes = np.where(states >= 0, notes[states, columns[:, None]], -1)
    return np.asarray(own_notes[:, LAP : LAP + STRETCH].ravel()[:own])


def _within(values: np.ndarray, begin: int, count: int) -> np.ndarray:
    """(count, ...) float32 zeros with the values placed from `begin` on."""
    out = np.zeros((count, *values.shape[1:]), np.float32)
    out[begin : begin + len(values)] = values
    return out


def _worth(cost: np.ndarray, silent: np.ndarray, chunks: int) -> np.ndarray:
    """(some, chunks) the notes of each stretch that are cheaper than silence somewhere, padded with others.

    No other note is on a cheapest path: silence would cost less, including the changes to and from it.
    """
    blocks = (cost < silent[:, None]).reshape(-1, BLOCK, cost.shape[1]).any(axis=1)
    wide, step = (STRETCH + 2 * LAP) // BLOCK, STRETCH // BLOCK
    some = np.lib.stride_tricks.sliding_window_view(blocks, wide, axis=0)[::step][:chunks].any(axis=2)
    most = max(1, int(some.sum(axis=1).max()))
    return np.ascontiguousarray(np.argsort(~some, axis=1, kind="stable")[:, :most].T)


BLOCK = 25
"""Frames; STRETCH and LAP are multiples of it."""
LEAVES = 0.5
"""Cost of falling silent."""

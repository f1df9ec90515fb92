"""The kit model learnt from a take, and what would change if it were used live."""

from __future__ import annotations

from dataclasses import dataclass, replace

from puresignal.core.midi.events import Notes, Take
from puresignal.core.path.cleaning_path import CleaningPath, LivePath, as_live, messages
from puresignal.core.path.context import Context
from puresignal.core.path.crosstalk import SHAKEN, learn
from puresignal.core.path.crosstalk_model import KitModel
from puresignal.core.path.stage_description import Reason, Stage
from puresignal.core.path.tally import Action


@dataclass(frozen=True)
class Lesson:
    """A kit model, and the number of notes that live playing of the take would lose to crosstalk removal.

    before  with the present settings; after  with the new kit model; ahead  with it, by look-ahead in ms
    """

    kit_model: KitModel
    before: int
    after: int
    ahead: dict[float, int]


def lesson(take: Take, path: CleaningPath, context: Context, played: Notes) -> Lesson:
    """Work out what would change, without changing anything. Plays the take through the live path four times."""
    kit_model = learn(played, context, path.crosstalk)

    def gone(known: KitModel, ms: float) -> int:
        own = replace(path.crosstalk, kit_model=known, live_ms=ms)
        return live_removals(take, replace(path, crosstalk=own), context)

    now = path.crosstalk.live_ms
    return Lesson(
        kit_model,
        gone(path.crosstalk.kit_model, now),
        gone(kit_model, now),
        {ms: gone(kit_model, ms) for ms in (4.0, 8.0)},
    )


def live_removals(take: Take, path: CleaningPath, context: Context) -> int:
    """The number of notes that the path would remove as crosstalk if the take were played live."""
    count = 0

    def account(stage: Stage, action: Action, reason: Reason, *_: object) -> None:
        nonlocal count
        count += action == Action.REMOVED and reason == SHAKEN

    run = LivePath(as_live(path), context, account=account)
    for message in messages(take.events):
        run.message(*message)
    run.finish(take.length)
    return count

"""The description that a stage gives of itself, and the reasons it gives for what it does.

Both are small numbers as well, since the tally keeps millions of them in columns. The numbers hold for one run of the
program and are never stored; files and reports use keys and words.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar


class Reason(int):
    """Why a stage did something to a note; made once, beside the stage that gives it.

    word  one or two words for tally strip, report and trace; marked for translation
    tip   which notes its figure in the tally strip counts, in a sentence; marked for translation
    """

    word: str
    tip: str
    _known: ClassVar[list[Reason]] = []

    def __new__(cls, word: str, tip: str = "") -> Reason:
        same = next((one for one in cls._known if one.word == word), None)
        if same is not None:
            return same
        made = super().__new__(cls, len(cls._known))
        made.word, made.tip = word, tip
        cls._known.append(made)
        return made

    def __getnewargs__(self) -> tuple[str, str]:  # type: ignore[override]
        return self.word, self.tip

    def __repr__(self) -> str:
        return f"Reason({self.word!r})"

    @classmethod
    def of(cls, number: int) -> Reason:
        """The reason with a number."""
        return cls._known[number]

    @classmethod
    def count(cls) -> int:
        """How many there are."""
        return len(cls._known)


@dataclass(frozen=True)
class Switch:
    """The setting that switches a stage on and off.

    name     of the setting
    on, off  its values
    others   stages whose setting of the same name follows
    """

    name: str = "on"
    on: object = True
    off: object = False
    others: tuple[str, ...] = ()


class Stage(int):
    """A stage's description.

    key      its name in settings files, and the name of its field in the path
    title    its title in the path panel; empty: it is not shown there. Marked for translation
    tip      what it does, in a sentence; marked for translation
    word     its name in the trace; marked for translation
    switch   what switches it, or None
    reasons  every reason it gives
    counted  the reasons that its figure in the path panel counts; empty: all but KEPT ones. None: it has no figure
    causal   whether it decides from the past and a short look-ahead, so that it runs live too
    on_timeline  whether it works on the session's time, where the take stands, and not on the take's own
    """

    key: str
    title: str
    tip: str
    word: str
    switch: Switch | None
    reasons: tuple[Reason, ...]
    counted: tuple[Reason, ...] | None
    causal: bool
    on_timeline: bool
    _known: ClassVar[list[Stage]] = []

    def __new__(
        cls,
        key: str,
        *,
        word: str,
        title: str = "",
        tip: str = "",
        switch: Switch | None = None,
        reasons: tuple[Reason, ...] = (),
        counted: tuple[Reason, ...] | None = (),
        causal: bool = True,
        on_timeline: bool = False,
    ) -> Stage:
        made = next((one for one in cls._known if one.key == key), None)
        if made is None:
            made = super().__new__(cls, len(cls._known))
            cls._known.append(made)
        made.key, made.title, made.tip, made.word, made.switch = key, title, tip, word, switch
        made.reasons, made.counted, made.causal = reasons, counted, causal
        made.on_timeline = on_timeline
        return made

    def __repr__(self) -> str:
        return f"Stage({self.key!r})"

    @classmethod
    def of(cls, number: int) -> Stage:
        """The stage with a number."""
        return cls._known[number]

    @classmethod
    def count(cls) -> int:
        """How many there are."""
        return len(cls._known)

    @classmethod
    def is_known(cls, key: str) -> bool:
        """Whether there is a stage with this key."""
        return any(one.key == key for one in cls._known)

    @classmethod
    def named(cls, key: str) -> Stage:
        """The stage with a key.

        Raises KeyError if there is none
        """
        for one in cls._known:
            if one.key == key:
                return one
        raise KeyError(key)

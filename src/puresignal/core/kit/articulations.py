"""The vocabulary of drums: articulations, families, names in words, and stand-ins.

An articulation is a drum and the place or way it is struck: `snare.rim`. Its first word is the drum; the
drum's name without its number is the key of its family.
"""

from __future__ import annotations

import re

from puresignal.translation import mark

DRUM_ORDER = (
    "kick", "snare", "hat", "tom1", "tom2", "tom3", "tom4", "tom5", "tom6", "crash1", "crash2", "ride",
    "splash", "china", "aux1", "aux2", "aux3", "aux4",
)  # fmt: skip

STANDARD = (
    "kick",
    "snare.head", "snare.rim", "snare.side",
    "hat.closed", "hat.half", "hat.open", "hat.pedal", "hat.splash", "hat.edge.closed", "hat.edge.open",
    "tom1.head", "tom1.rim", "tom2.head", "tom2.rim", "tom3.head", "tom3.rim", "tom4.head", "tom4.rim",
    "crash1.bow", "crash1.edge", "crash2.bow", "crash2.edge",
    "ride.bow", "ride.bell", "ride.edge",
    "aux1", "aux2", "aux3", "aux4",
)  # fmt: skip

HAT_EDGE_HALF = "hat.edge.half"
"""An edge hit at half opening, as the pedal decides it. Never appears in a note map."""

HAT_QUARTER, HAT_THREE_QUARTER = "hat.quarter", "hat.three_quarter"
"""Openings of a receiver with five hat sounds, between closed, half and open."""

FAMILIES = ("kick", "snare", "hat", "tom", "cymbal", "percussion", "other")

_FAMILY_OF_WORD = {
    "kick": "kick", "snare": "snare", "hat": "hat", "tom": "tom", "crash": "cymbal", "ride": "cymbal",
    "splash": "cymbal", "china": "cymbal", "cymbal": "cymbal",
    **dict.fromkeys(
        ("claps", "tambourine", "cowbell", "vibraslap", "bongo", "conga", "timbale", "agogo", "cabasa", "maracas",
         "whistle", "guiro", "claves", "woodblock", "cuica", "triangle", "shaker", "snaps", "bell"), "percussion"),
}  # fmt: skip

_FIRST = {"snare": "head", "hat": "closed", "tom": "head", "crash": "bow", "ride": "bow"}

_SPOKEN = {
    "hat": mark("hi-hat"),
    "aux": mark("aux pad"),
    "pedal": mark("foot close"),
    "splash": mark("splash"),
    "half": mark("half open"),
    "quarter": mark("a quarter open"),
    "three_quarter": mark("three quarters open"),
    "side": mark("cross-stick"),
    "lowmid": mark("low mid"),
}

# A rim or cross-stick falls back to the head before it falls back to the other special stroke.
_NEAREST = {
    "head": ("rim", "side"),
    "rim": ("head", "side"),
    "side": ("head", "rim"),
    "bow": ("edge", "bell"),
    "edge": ("bow", "bell"),
    "bell": ("bow", "edge"),
}

_WORD = re.compile(r"[a-z][a-z0-9_-]*\Z")


def is_articulation(name: str) -> bool:
    """Whether a note map may use this name: a standard one, `word` or `word.word`."""
    if name in STANDARD:
        return True
    parts = name.split(".")
    return 1 <= len(parts) <= 2 and all(_WORD.match(part) for part in parts)


def canonical(name: str) -> str:
    """A bare drum name means the drum's first articulation: `snare` is `snare.head`."""
    if "." in name or name in STANDARD:
        return name
    first = _FIRST.get(name.rstrip("0123456789"))
    return f"{name}.{first}" if first else name


def drum_of(name: str) -> str:
    """`snare` for `snare.rim`."""
    return name.split(".", 1)[0]


def family_of(name: str) -> str:
    """The family that gives a drum its colour and mark; `other` for an unknown word."""
    return _FAMILY_OF_WORD.get(drum_of(name).rstrip("0123456789"), "other")


def spoken(name: str) -> str:
    """The articulation in words: `snare.rim` is "snare, rim"; `tom1.head` is "tom 1, head"."""
    parts = name.split(".")
    drum = parts[0]
    digits = drum[len(drum.rstrip("0123456789")) :]
    word = drum[: len(drum) - len(digits)]
    # As a drum "splash" is a cymbal; as a way of playing the hat it is a foot splash.
    word = _SPOKEN.get(word, word) if word in ("hat", "aux") else word.replace("_", " ")
    head = f"{word} {digits}".strip()
    rest = [_SPOKEN.get(part, part.replace("_", " ")) for part in parts[1:]]
    return ", ".join([head, *rest])


def drum_title(drum: str) -> str:
    """A track's name: "Snare", "Hi-hat", "Tom 1"."""
    text = spoken(drum)
    return text[:1].upper() + text[1:]


def mark_of(name: str) -> str:
    """The percussion mark of an articulation: dash (drum), cross (cymbal), wedge (rim), bracket (pedal)."""
    last = name.split(".")[-1]
    if last in ("pedal", "splash") and drum_of(name) == "hat":
        return "bracket"
    if last in ("rim", "side"):
        return "wedge"
    if family_of(name) in ("hat", "cymbal"):
        return "cross"
    return "dash"


def sort_key(name: str) -> tuple[int, str, int, str]:
    """Sort key for drums and articulations: the order in which drummers list them, then by name."""
    drum = drum_of(name)
    place = DRUM_ORDER.index(drum) if drum in DRUM_ORDER else len(DRUM_ORDER)
    inner = STANDARD.index(name) if name in STANDARD else len(STANDARD)
    return place, drum, inner, name


def stand_ins(name: str, nearer: str = "open") -> tuple[str, ...]:
    """Articulations that may stand in for one that a receiver lacks, nearest first.

    nearer   "open" or "closed": the end of the travel that a half-open hat is nearer to
    Returns  articulations of the same drum, without `name` itself
    """
    drum = drum_of(name)
    further = "closed" if nearer == "open" else "open"
    if drum == "hat":
        edge = {"closed": "hat.edge.closed", "open": "hat.edge.open"}
        bow = {"closed": "hat.closed", "open": "hat.open"}
        return {
            "hat.closed": ("hat.edge.closed", "hat.half", "hat.pedal", "hat.open"),
            "hat.half": (bow[nearer], bow[further], edge[nearer], edge[further]),
            HAT_QUARTER: ("hat.half", "hat.closed", "hat.edge.closed", "hat.open"),
            HAT_THREE_QUARTER: ("hat.half", "hat.open", "hat.edge.open", "hat.closed"),
            "hat.open": ("hat.edge.open", "hat.half", "hat.closed", "hat.edge.closed"),
            "hat.pedal": ("hat.closed", "hat.edge.closed", "hat.half", "hat.open"),
            "hat.splash": ("hat.pedal", "hat.open", "hat.edge.open", "hat.half", "hat.closed"),
            "hat.edge.closed": ("hat.closed", "hat.half", "hat.edge.open", "hat.open"),
            "hat.edge.open": ("hat.open", "hat.half", "hat.edge.closed", "hat.closed"),
            HAT_EDGE_HALF: ("hat.half", edge[nearer], bow[nearer], bow[further], edge[further]),
        }.get(name, ("hat.closed", "hat.open"))
    way = name.split(".", 1)[1] if "." in name else ""
    return tuple(f"{drum}.{other}" for other in _NEAREST.get(way, ()))


def resolve(name: str, available: tuple[str, ...], nearer: str = "open") -> str | None:
    """The articulation that a receiver plays for `name`: itself, the nearest of its drum, or None.

    available  the receiver's articulations, in the order of its map
    """
    wanted = canonical(name)
    by_canonical: dict[str, str] = {}
    for entry in available:
        by_canonical.setdefault(canonical(entry), entry)
    for candidate in (wanted, *stand_ins(wanted, nearer)):
        if candidate in by_canonical:
            return by_canonical[candidate]
    same_drum = [entry for entry in available if drum_of(entry) == drum_of(name)]
    return same_drum[0] if same_drum else None

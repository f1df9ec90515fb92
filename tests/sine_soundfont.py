"""A SoundFont of one sine, made by hand, for the tests of FluidSynth."""

from __future__ import annotations

import struct
from pathlib import Path

import numpy as np


def write(path: Path, rate: int = 44_100, note: int = 69) -> None:
    """A bank with one preset: a sine of 440 Hz at note 69, looped."""
    period = rate / 440
    length = round(period * 50)
    wave = (20_000 * np.sin(2 * np.pi * np.arange(length) / period)).astype("<i2")
    samples = wave.tobytes() + bytes(92)

    def chunk(kind: bytes, body: bytes) -> bytes:
        return kind + struct.pack("<I", len(body)) + body + b"\0" * (len(body) % 2)

    def named(text: str) -> bytes:
        return text.encode().ljust(20, b"\0")

    def gen(kind: int, amount: int) -> bytes:
        return struct.pack("<HH", kind, amount & 0xFFFF)

    info = chunk(b"ifil", struct.pack("<HH", 2, 1)) + chunk(b"isng", b"none\0\0") + chunk(b"INAM", b"sine\0\0")
    presets = (
        named("sine")
        + struct.pack("<HHHIII", 0, 0, 0, 0, 0, 0)
        + named("EOP")
        + struct.pack("<HHHIII", 0, 0, 1, 0, 0, 0)
    )
    instruments = named("sine") + struct.pack("<H", 0) + named("EOI") + struct.pack("<H", 1)
    header = named("sine") + struct.pack("<IIIIIBbHH", 0, length, 0, round(period * 49), rate, note, 0, 0, 1)
    parts = [
        (b"phdr", presets), (b"pbag", struct.pack("<HHHH", 0, 0, 1, 0)), (b"pmod", bytes(10)),
        (b"pgen", gen(41, 0) + bytes(4)), (b"inst", instruments), (b"ibag", struct.pack("<HHHH", 0, 0, 2, 0)),
        (b"imod", bytes(10)), (b"igen", gen(54, 1) + gen(53, 0) + bytes(4)),
        (b"shdr", header + named("EOS") + bytes(26)),
    ]  # fmt: skip
    body = chunk(b"LIST", b"INFO" + info) + chunk(b"LIST", b"sdta" + chunk(b"smpl", samples))
    body += chunk(b"LIST", b"pdta" + b"".join(chunk(kind, content) for kind, content in parts))
    path.write_bytes(chunk(b"RIFF", b"sfbk" + body))

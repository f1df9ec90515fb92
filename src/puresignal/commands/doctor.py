"""`pure-signal doctor`: what this machine offers, what is missing, and the line that cures it."""

from __future__ import annotations

import json
from dataclasses import asdict

from puresignal.commands.terminal import say
from puresignal.io import machine


def run(as_json: bool) -> int:
    """Print the findings. Returns 1 if something is missing that was asked for, else 0."""
    findings = machine.look()
    if as_json:
        print(json.dumps([asdict(one) for one in findings], indent=2, ensure_ascii=False))
    else:
        for line in machine.lines(findings):
            say(line)
    return int(any(one.state == machine.MISSING for one in findings))

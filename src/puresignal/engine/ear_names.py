"""Names of the simulated voices, as sources of the ear."""

from __future__ import annotations

SINGER, MOUTH = "singer", "mouth"
SIMULATED = (SINGER, MOUTH)

"""Open file formats, read with tolerance and written with care."""

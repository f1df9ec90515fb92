"""Open file formats and devices, read tolerantly and written safely."""

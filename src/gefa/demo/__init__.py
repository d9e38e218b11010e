"""Quillmere Kite Days: an invented festival, drawn by code, to try everything on."""

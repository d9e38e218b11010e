"""The plan of the sample site, as a ``gefa.toml`` beside its pictures."""

from __future__ import annotations

PLAN = """\
# Quillmere Kite Days: the pictures of the festival's website.
# `gefa export` makes them, `gefa check` tells whether they are up to date.
out = "public/img"

# Photographs: three formats, four widths.
[recipes.photo]
formats = ["avif", "webp", "jpeg"]
widths  = [400, 800, 1200, 1600]
quality = { avif = 55, webp = 76, jpeg = 78 }

# The panorama is cut into four pieces.
[[sources]]
files  = "photos/shoreline.jpg"
recipe = "backdrop"
tags   = ["beach", "wide"]

[[sources]]
files  = ["photos/*dune*.jpg", "photos/tide-*.jpg", "photos/from-the-*.jpg"]
recipe = "photo"
tags   = ["beach"]

[[sources]]
files  = "photos/**"
recipe = "photo"

# What becomes of the designs is said in their layers' names.
[[sources]]
files  = "designs/*"
folder = "art"

[[slices]]
source = "photos/shoreline.jpg"
split  = { columns = 4, rows = 1 }
"""

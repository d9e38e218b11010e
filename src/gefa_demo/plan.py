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

# What the pages show. `gefa weigh` says what they send to their visitors.
[[pictures]]
name    = "hero"
alt     = "The kites of the festival over the long dune"
sizes   = "100vw"
loading = "eager"
use     = [
  { cut = "art/Hero-tall", media = "(max-width: 600px)" },
  { cut = "art/Hero-wide" },
]

[[pages]]
name     = "home"
pictures = [
  "hero",
  { picture = "art/Masthead", sizes = "(max-width: 700px) 90vw, 640px", loading = "eager" },
  { picture = "photos/kites-at-noon", sizes = "(max-width: 600px) calc(100vw - 32px), 307px" },
  { picture = "photos/long-dune", sizes = "(max-width: 600px) calc(100vw - 32px), 307px" },
  { picture = "photos/open-sea", seen = 0.6, sizes = "(max-width: 600px) 100vw, 307px" },
  { picture = "art/Lost-kites-badge", sizes = "96px", seen = 0.3 },
]
budget   = { bytes = 120000, at = "p75" }

[[pages]]
name     = "programme"
pictures = [
  { picture = "art/Shore-map", sizes = "(max-width: 900px) 100vw, 900px" },
  { picture = "art/Tea-tent", sizes = "48px" },
  { picture = "art/Kite-clinic", sizes = "48px" },
  { picture = "art/Line-and-reel", sizes = "48px" },
  { picture = "art/First-aid", sizes = "48px" },
]
budget   = { bytes = 30000, at = "worst" }

# No sizes here: each photograph is taken to be as wide as the window, and the page is too heavy.
[[pages]]
name     = "photographs"
pictures = [
  { picture = "photos/from-the-pier", loading = "eager" },
  { picture = "photos/after-the-squall", seen = 0.9 },
  { picture = "photos/bunting", seen = 0.8 },
  { picture = "photos/the-swarm", seen = 0.7 },
  { picture = "photos/last-light", seen = 0.6 },
  { picture = "photos/dusk", seen = 0.5 },
]
budget   = { bytes = 250000, at = "p75" }

[[audiences]]
name = "visitors"
file = "visitors.csv"
"""

VISITORS = """\
viewport_width,device_pixel_ratio,share,formats
360,2,9,avif webp
360,3,17,avif webp
384,2.75,11,avif webp
390,3,21,avif webp
414,2,3,webp
430,3,8,avif webp
768,2,3,webp
820,2,4,avif webp
1280,1,3,avif webp
1366,1,5,avif webp
1440,2,6,avif webp
1536,1.25,4,avif webp
1920,1,5,avif webp
2560,1,1,none
"""
"""the audience of the festival's pages: most visitors are on their way there, with a phone"""

"""What the sample website shows from the start."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from gefa_demo.photographs import SCENES
from gefa_demo.site.posts import (
    Content,
    PictureBlock,
    Placement,
    Post,
    Record,
    Report,
    Stall,
    TextBlock,
)

Share = Callable[[str, str, str], str]
"""uploads a photograph (slot, file, alternative text), and gives the upload's id"""

SHARED_AT_FIRST = 3
"""photographs already shared by visitors; the others are left for trying"""
_BY_FILE = {scene.file: scene.alt for scene in SCENES}


def fill_site(folder: Path, share: Share) -> None:
    """Write the site's first content."""

    def of(slot: str, file: str) -> str:
        return share(slot, file, _BY_FILE[file])

    shared = SCENES[:SHARED_AT_FIRST]
    posts = [Post(upload=of("gallery", scene.file), caption=scene.alt) for scene in shared]
    stalls = [
        Stall(
            upload=of("stalls", "bunting.jpg"),
            name="The bunting bench",
            words="Cut, fold and string your own pennants. Scissors are lent.",
        ),
        Stall(
            upload=of("stalls", "close-cloth.jpg"),
            name="Ripstop by the metre",
            words="Off-cuts of every colour; bring a torn kite and it is patched while you wait.",
        ),
    ]
    report = Report(
        id="first-morning",
        title="The first morning on the long dune",
        blocks=[
            TextBlock(
                text="The wind came round to the south-west before seven, and by eight the first"
                " lines were up. Nobody had slept much: the marquee had to be tied down twice."
            ),
            PictureBlock(
                upload=of("reports", "dusk.jpg"),
                placed=Placement.RIGHT,
                caption="The evening before",
                alt=_BY_FILE["dusk.jpg"],
            ),
            TextBlock(
                text="From the top of the dune one sees the whole beach, from the bell buoy to the"
                " breakwater. The judges stood there with their flasks and marked what they saw on"
                " the backs of tide tables.\n\nThe children's class went first. Eleven kites, two"
                " of them made of newspaper, one of which flew highest of all."
            ),
            PictureBlock(
                upload=of("reports", "open-sea.jpg"),
                placed=Placement.FULL,
                caption="Out over the water",
                alt=_BY_FILE["open-sea.jpg"],
            ),
            TextBlock(text="We go out again tomorrow, if the forecast holds."),
        ],
    )
    Record(folder).write(Content(posts=posts[::-1], stalls=stalls, reports=[report]))

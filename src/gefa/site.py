"""Markup by name for a site's templates: no template holds the name of a file.

```python
from gefa.site import Pictures

pictures = Pictures("public/img/manifest.json", base="/img/")
print(pictures["hero"])
print(pictures.html("art/Skyline", sizes="50vw", loading="eager"))
```

``Pictures.extension`` gives Jinja templates the function ``picture``:
``{{ picture("hero", sizes="50vw") }}``.
"""

from __future__ import annotations

import threading
from pathlib import Path
from typing import TYPE_CHECKING

from pydantic import ValidationError

from gefa.core.deliver.manifest import Manifest
from gefa.core.deliver.named_pictures import NamedPictures
from gefa.core.errors import PlanError

if TYPE_CHECKING:
    from jinja2 import Environment
    from jinja2.ext import Extension


class Pictures:
    """The pictures of a manifest by name: those of the plan, and every cut.

    ``base`` is put before the path of each file. A manifest that changes is read again. PlanError
    if there is no manifest.
    """

    def __init__(self, manifest: str | Path, base: str = "") -> None:
        self._file = Path(manifest)
        self._base = base
        self._lock = threading.Lock()
        self._stamp: tuple[int, int] | None = None
        self._named = self._read()

    def names(self) -> list[str]:
        return self._fresh().names()

    def html(
        self,
        name: str,
        *,
        alt: str | None = None,
        sizes: str = "",
        loading: str = "",
        css_class: str = "",
    ) -> str:
        """The ``<picture>`` of that name. PlanError, with the closest name, if there is none."""
        return self._fresh().markup(
            name, alt=alt, sizes=sizes, loading=loading, css_class=css_class
        )

    def __getitem__(self, name: str) -> str:
        return self.html(name)

    @property
    def extension(self) -> type[Extension]:
        """A Jinja extension that gives templates ``picture(name, alt=…, sizes=…, loading=…,
        css_class=…)``."""
        from jinja2.ext import Extension
        from markupsafe import Markup

        pictures = self

        def picture(name: str, **given: str) -> Markup:
            return Markup(pictures.html(name, **given))  # noqa: S704  # ours, and escaped

        class PictureExtension(Extension):
            """``{{ picture("hero") }}``"""

            def __init__(self, environment: Environment) -> None:
                super().__init__(environment)
                environment.globals["picture"] = picture

        return PictureExtension

    def _fresh(self) -> NamedPictures:
        with self._lock:
            try:
                found = self._file.stat()
            except OSError:
                return self._named  # it is being written anew
            if (found.st_mtime_ns, found.st_ino) != self._stamp:
                self._named = self._read()
            return self._named

    def _read(self) -> NamedPictures:
        try:
            found = self._file.stat()
            manifest = Manifest.model_validate_json(self._file.read_text("utf-8"))
        except (OSError, ValidationError, UnicodeDecodeError) as error:
            raise PlanError(
                "cannot be read as a manifest.",
                file=str(self._file),
                advice="Run `gefa export`.",
            ) from error
        self._stamp = (found.st_mtime_ns, found.st_ino)
        return NamedPictures(manifest, base=self._base)

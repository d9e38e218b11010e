"""Gefa's computation, usable by itself.

```python
from pathlib import Path
from gefa.core import FolderShelf, Plan, carry_out, prepare, survey_for
from gefa.core.read import read

document = read(Path("poster.ora"))
shelf = FolderShelf(Path("img"))
plan = Plan()
for job in prepare(survey_for(document, plan), plan).jobs:
    report = carry_out(job, lambda: document, shelf)
    print(report.record.markup)
```

Its folders, in the order of the job: ``read``, ``treat``, ``cut``, ``plan``, ``deliver``,
``weigh``, ``make``, ``look``, ``slots``; each imports only those before it. All of them share
``errors``, ``geometry``, ``units``, ``files``, ``conditions``, ``pixels`` and ``threads``.
"""

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from gefa.core.errors import GefaError
    from gefa.core.make.folder_shelf import FolderShelf
    from gefa.core.make.make_cut import carry_out
    from gefa.core.make.prepare import prepare, survey_for
    from gefa.core.plan.load import load_plan
    from gefa.core.plan.plan import Plan

__all__ = [
    "FolderShelf",
    "GefaError",
    "Plan",
    "carry_out",
    "load_plan",
    "prepare",
    "survey_for",
]

_WHERE = {
    "FolderShelf": "gefa.core.make.folder_shelf",
    "GefaError": "gefa.core.errors",
    "Plan": "gefa.core.plan.plan",
    "carry_out": "gefa.core.make.make_cut",
    "load_plan": "gefa.core.plan.load",
    "prepare": "gefa.core.make.prepare",
    "survey_for": "gefa.core.make.prepare",
}


def __getattr__(name: str) -> Any:
    # Loaded when it is asked for: half a second that no process has to wait that needs less.
    if name not in _WHERE:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    return getattr(import_module(_WHERE[name]), name)

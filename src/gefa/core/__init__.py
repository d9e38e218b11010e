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
"""

from gefa.core.deliver.shelf import FolderShelf
from gefa.core.errors import GefaError
from gefa.core.export import carry_out, prepare, survey_for
from gefa.core.plan import Plan, load_plan

__all__ = [
    "FolderShelf",
    "GefaError",
    "Plan",
    "carry_out",
    "load_plan",
    "prepare",
    "survey_for",
]

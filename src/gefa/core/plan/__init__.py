"""Choose: what a plan says, and which cuts it makes of a source.

In reading order:

- ``plan``: The plan file: recipes, rules, cuts, slices and originals, as TOML
- ``gather``: Which parts become cuts
- ``slice_cuts``: From the plan's slices to cuts
- ``editor``: Changes to a plan, each giving a new plan: what the Cut screen does
- ``carry_over``: Taking a plan over to the next revision of its source
"""

"""The plan: what it says, and which cuts it makes of a source.

In reading order:

- ``plan_model``: What all tables of a plan have in common
- ``pages``: What a plan says of pages: pictures by name, the pages that show them, and who visits
- ``plan``: The plan file: recipes, rules, cuts, slices, originals, pictures and pages, as TOML
- ``load``: Reads plans from TOML, and says what is wrong with them
- ``toml_text``: Reads TOML from strangers, within limits
- ``toml_blocks``: How plans are written as TOML
- ``plan_text``: Changes the text of a plan file; comments and order stay
- ``problems``: What is wrong with a plan or a recipe, in words, with the place
- ``unknown_names``: Names in a plan that the site does not have
- ``site_plan``: One plan for the site, in pieces: what all sources share, and what belongs to one
- ``treat_many``: Recipe and tags of many sources at once, by the entries of ``[[sources]]``
- ``gather``: Which parts become cuts: by tag, by rule, by hand, or by default
- ``tag_words``: Exceptions in a layer's name: the words ``key=value`` after a tag
- ``slice_cuts``: From the plan's slices to cuts
- ``editor``: Changes to a plan, each giving a new plan: what the Cut screen does
- ``carry_over``: Moves a plan to the next revision of its source
"""

"""The screens, each a module of addresses beside one of what it shows.

In reading order:

- ``sources``: Sources: bring files in, and the desk of everything that was brought in
- ``desk``: What is done to many sources at once, undone, and restored
- ``desk_view``: What the Sources screen shows: the desk, searched, filtered and sorted
- ``plan``: Plan: the site's plan as one file, to download and to import
- ``source_intake``: Bringing in what came as a form: pictures, designs, and zips of them
- ``watched``: Folders of the server that are watched: what lies in them is brought in
- ``cut``: Cut: one source, its picture beside the list of its parts and files
- ``cut_view``: What the Cut screen shows: the tree of parts that is also the folder of files
- ``weighing``: What the files of cuts weigh, as far as that is known before a run
- ``edits``: What the Cut screen asks for, from the fields of a form to a change of the plan
- ``stale``: Forms that were drawn from a plan which is another by now
- ``runs``: Runs: live progress, then the sheet, the bundle, the manifest and the markup
- ``run_downloads``: Downloads of a run: the bundle, layouts, the PDF
- ``run_view``: What the Run screen shows: how far it is, and the sheet of weights by cut and width
- ``proof``: Proof
- ``proof_view``: What the Proof screen shows: a file of a cut beside the picture it was made from
- ``curve``: The curve of weight against look, as a drawing: one line for each format
- ``weight``: Weight: what the site's pages send to their visitors, and ladders that fit them better
- ``weight_view``: What the Weight screen shows: pages, what visitors are sent, and ladders
- ``recipes``: Recipes
- ``recipe_form``: A recipe and the words of its sentence: from the one to the other and back
- ``trial``: A recipe tried on a sample: one cut of one source, made as a run would make it
- ``slots``: Slots
- ``slot_form``: A slot's settings and the rows they are shown and changed in
- ``slot_trial``: Trying a slot with a picture: what would be made, with nothing saved
- ``uploads``: The feed of uploads
- ``sign_in``: Signing in and out, and the link with which somebody chooses how
- ``account``: One's own account: where one is signed in, and another passphrase
- ``people``: People, for owners
- ``keys``: Keys, for owners: what opens the site to builds and other programs
- ``health``: Signs of life
- ``crop_view``: A crop as it is shown beside the picture: what it keeps, and the files made of it
"""

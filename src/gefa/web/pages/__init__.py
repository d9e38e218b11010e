"""The screens, each a module of addresses beside one of what it shows.

In reading order:

- ``sources``: Sources: bring files in, and the desk of everything that was brought in
- ``desk``: What is done to many sources at once, undone, and restored
- ``desk_view``: What the Sources screen shows: the desk, searched, filtered and sorted
- ``plan``: *Plan*: the site's plan as one file, to download and to import
- ``source_intake``: Brings in the pictures, designs and zips of a form
- ``watched``: *Watched folders*: files in them are brought in
- ``cut``: *Cut*: one source, its picture beside the list of parts and files
- ``cut_view``: What the Cut screen shows: the tree of parts that is also the folder of files
- ``weighing``: The weight of cuts for the screens, as far as it is known before a run
- ``edits``: What the Cut screen asks for, from the fields of a form to a change of the plan
- ``stale``: Answers forms that were drawn from an older plan
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
- ``uploads``: *Uploads*: the feed, and one upload with its focal point, text, files and state
- ``sign_in``: Sign in and out, and the link with which somebody sets a passphrase
- ``account``: *Account*: where somebody is signed in, and a new passphrase
- ``people``: People, for owners
- ``keys``: Keys, for owners: what opens the site to builds and other programs
- ``health``: Health of the server: for programs that watch it, and as a page
- ``crop_view``: What a page shows of a crop: the rectangle it keeps, and its files
"""

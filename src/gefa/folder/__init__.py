"""A site in a folder: its files, its plan file, and what is made of them in ``out``.

In reading order:

- ``site_files``: The files of a site: found on the disk, and called by their paths within it
- ``starter``: ``gefa init``
- ``out_folder``: The folder that an export writes into: what it held before, and what has to go
- ``older_memory``: What out folders of earlier versions keep in JSON files
- ``out_memory``: What is known in an out folder: its sources as they were read, and what was made
- ``export_calls``: The calls to the processes of an export, one for each source
- ``export_plan``: Reads, expands and names what an export makes
- ``export``: ``gefa export``: many sources into one folder, on all cores, with no server
- ``unchanged``: Whether anything has changed since the last export
- ``dry_run``: ``--dry-run``: what an export would do
- ``check``: ``gefa check``
- ``clean``: ``gefa clean``: files in an out folder that nothing makes any more
- ``saves``: Waits for files to be saved, and until they are saved whole
- ``source_watcher``: The folders that the server watches, and brings in what appears in them
- ``plan_file``: Keeps a site's ``gefa.toml`` and the plan in the application in step
- ``run_output``: Writes a run into a site's out folder, as an export does
- ``site_folder``: ``serve --site``: keeps the plan file in step, and writes runs to ``out``
- ``page_weights``: ``gefa weigh``: what the pages of a site send
- ``ladder_trial``: Encodes proposed ladders to see what they save, and writes them into the plan
"""

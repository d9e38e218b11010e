"""The web application: pages, API, and what they share.

In reading order:

- ``app``: The web application: pages, API and delivery over one data folder
- ``connections``: Limits of connections: how many, how slow, how long a request's head may be
- ``watch``: Gives every request an id, counts and logs it
- ``security``: Known hosts, changes only from our own pages, and the headers that protect a page
- ``limits``: How much memory, disk and time a server gives to requests
- ``bodies``: Limits of requests, before anything reads them: bytes, rates, and a key for the API
- ``rates``: Rate limits by address and by key
- ``services``: What the pages and the API work with, made once for each application
- ``site_mode``: ``serve --site``: what a server may not do with the files of the folder
- ``problems``: Errors as answers
- ``templating``: Pages from Jinja templates
- ``template_filters``: Numbers as the pages show them, as filters for templates
- ``fields``: Reads the fields of a form as numbers, sizes, lists and choices
- ``file_form``: Files and fields of a multipart form, put into the blob store as they come
- ``incoming``: The names of files that arrive
- ``sending``: Sends files from the blob store
- ``visitors``: Who asks, and whether they may: each route declares the rights it needs
- ``sign_in_service``: Signing in with an account elsewhere
- ``health``: Checks that everything the server needs works, in figures and in words
- ``metrics``: Metrics (Prometheus text format 0.0.4)
- ``delivery``: ``/m/``: serves variants to visitors, before pages and API
- ``courier``: Sends webhook notices, and tries again until the address accepts them
"""

"""What is seen: the application, and what all pages share.

In reading order:

- ``app``: The web application: pages, API and delivery over one data folder
- ``connections``: Connections that cannot be held open, nor made to hold more than a request's head
- ``watch``: Every request gets an id, is counted, and can be logged
- ``security``: Who may ask
- ``limits``: How much of the machine a server gives to those who ask for it
- ``bodies``: What a request may bring with it, before anything looks at it
- ``rates``: How often somebody may ask
- ``services``: What the pages and the API work with, made once for each application
- ``site_mode``: A server that runs on a site's folder: what it may not do with the files there
- ``problems``: Errors as answers
- ``templating``: Pages from Jinja templates
- ``template_filters``: Numbers as the pages show them, as filters for templates
- ``fields``: The fields of a form that a page sent, each read as what it means
- ``file_form``: Files and fields of a multipart form, put into the blob store as they come
- ``incoming``: Files on their way in: what they are called
- ``sending``: Sending files that were made, or drawn for the screens, from the blob store
- ``visitors``: Who is asking, and whether a route lets them: each route says what it needs
- ``sign_in_service``: Signing in with an account elsewhere
- ``health``: Whether everything that the server needs works, in figures and in words
- ``metrics``: Figures for those who watch a server (Prometheus text format 0.0.4)
- ``delivery``: ``/m/``
- ``courier``: Tells other programs what they want to know
"""

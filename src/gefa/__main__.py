from gefa.cli import app

app()

from gefa.cli.app import app

app()

"""`python -m amphora`."""

from amphora.cli.main import run

run()

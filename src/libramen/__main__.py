"""`python -m libramen`."""

from libramen.cli import main

main()

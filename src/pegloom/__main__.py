"""`python -m pegloom`: the command line."""

from pegloom.cli import main

main()

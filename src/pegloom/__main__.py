"""`python -m pegloom`: the command line."""

from pegloom.cli import main

if __name__ == "__main__":  # worker processes import this module too
    main()

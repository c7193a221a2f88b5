"""`python -m zeitbuch`."""

from .cli.main import run

if __name__ == "__main__":
    run()

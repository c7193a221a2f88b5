"""`python -m zeitbuch`."""

from zeitbuch.cli.main import run

if __name__ == "__main__":
    run()

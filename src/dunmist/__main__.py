"""``python -m dunmist`` is the same program as ``dunmist``."""

from dunmist.cli.main import run

if __name__ == "__main__":
    run()

"""Lets `python -m clever_ferry` do what `cferry` does."""

from clever_ferry.cli.start import run

if __name__ == "__main__":
    run()

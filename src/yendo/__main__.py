"""``python -m yendo``."""

from yendo.cli.main import main

if __name__ == "__main__":  # where processes are started anew, each imports this again
    raise SystemExit(main())

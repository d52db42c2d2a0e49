"""``python -m yendo``."""

from yendo.cli.main import main

raise SystemExit(main())

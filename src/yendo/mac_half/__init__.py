"""The half of a package that is for macOS: its plan (``macos.toml``), its steps, what is built of it, and its proof."""

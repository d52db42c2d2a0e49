"""The demonstration: an invented harbour office, an invented vendor, and installers made on the spot."""

"""What a package is proved on."""

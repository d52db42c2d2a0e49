"""A shelf: every workspace below a folder, how far it is, and where packages would get into one another's way."""

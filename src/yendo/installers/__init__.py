"""One module a family: recognise a file and account for it. Nothing here is ever run."""

"""All machines of an office: who has what, who would get a package, in which order, and when to stop."""

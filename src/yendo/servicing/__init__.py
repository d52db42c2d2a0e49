"""Parts of the system, updates, and images of it: what they say of themselves."""

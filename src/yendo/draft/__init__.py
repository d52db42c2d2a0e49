"""From an account of an installer to a workspace with a plan."""

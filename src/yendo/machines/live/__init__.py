"""A real Windows that is worked on from elsewhere: a script there carries out one errand after the other."""

"""Versions, conditions, and the facts they are judged against."""

"""Several products as one: chosen, put in order, with what they share brought once, and what needs
a person set apart.
"""

"""What differs between the systems that packages are for, a room each. ``effects`` has what all of them have: files,
folders, links, and the algebra of states; it asks none of these rooms.
"""

"""Values that all other rooms share; NumPy and the standard library only."""

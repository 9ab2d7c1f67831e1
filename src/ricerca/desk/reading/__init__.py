"""The sentence above the pages and the box that finds anything."""

"""The pages of a reading: leads, functions, lines, call tree, graph, timeline."""

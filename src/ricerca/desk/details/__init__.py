"""The panel about the selected function or line."""

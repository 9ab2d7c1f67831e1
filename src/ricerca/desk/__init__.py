"""The window. Widgets show engine results and send intents; they compute nothing."""

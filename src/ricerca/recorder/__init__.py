"""What runs inside the measured process; nothing here is imported by the rest of Ricerca."""

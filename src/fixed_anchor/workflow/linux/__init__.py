"""A Linux host as a target of changes: its files, drafted and carried out."""

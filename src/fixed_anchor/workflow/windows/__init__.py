"""A Windows machine as a target of changes: its settings, drafted, carried out and restored."""

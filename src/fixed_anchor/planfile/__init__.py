"""The text of an addressing plan: reading it with lines and columns, and writing a new one."""

"""Pictures for a file: drawn by matplotlib, the extra `map`."""

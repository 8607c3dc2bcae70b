"""The rules that raise findings: pure functions, one module per family of the catalogue."""

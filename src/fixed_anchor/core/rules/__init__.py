"""The rules that raise findings: pure functions of one case, one module per family of the catalogue."""

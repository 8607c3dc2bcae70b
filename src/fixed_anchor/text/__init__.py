"""Texts read with the place of every word, and edited without touching the rest: lines, sections, YAML, braces."""

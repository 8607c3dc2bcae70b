"""Types and computation: no input or output, no clock, no interface code."""

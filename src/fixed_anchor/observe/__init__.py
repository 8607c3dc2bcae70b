"""What is in force on a machine, read from its kernel, its stack and its resolver, as core types."""

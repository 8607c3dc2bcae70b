"""A simulated Windows machine: one state in a JSON file, read here and by the module that stands for its commands."""

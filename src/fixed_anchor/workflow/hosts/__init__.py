"""What all hosts have in common as targets: what was before a change, whether it is in force, what is kept."""

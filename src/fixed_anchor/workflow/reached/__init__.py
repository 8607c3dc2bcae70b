"""The machines of a plan, as far as they are reached from here: each looked at once, several at a time."""

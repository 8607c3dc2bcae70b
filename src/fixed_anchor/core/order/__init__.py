"""The order in which the hosts of a plan are changed: which one before which, why, and in which waves."""

"""Files of the machine on which this program runs."""

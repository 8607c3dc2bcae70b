"""The engine that acts on a host, the data of one change, and the driver that calls it."""

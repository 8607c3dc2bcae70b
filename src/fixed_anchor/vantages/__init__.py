"""Places on a segment from which packets can be sent: a raw socket here, or a simulated wire."""

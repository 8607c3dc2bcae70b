"""Looking at the hosts of a site from beside: each segment from whoever is reached on it."""

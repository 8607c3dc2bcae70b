"""Outside knowledge of addresses: one module for each kind of source."""

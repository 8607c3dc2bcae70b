"""The simulated site: hosts that interpret their real files, and a wire with devices on it."""

"""Windows machines: what their collector tells of them. Nothing is changed there yet."""

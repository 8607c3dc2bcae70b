"""What people read: one module for each view. Everything printed has lost its control characters."""

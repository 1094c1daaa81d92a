"""Faults done to a running application on purpose, and what must be true afterwards: `bin/faults`."""

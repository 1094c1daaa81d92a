"""Random walks over everything that can be done to a production, and what judges them: `bin/walk`."""

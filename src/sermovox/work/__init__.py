"""Work that lasts: its queue, how far it is, what goes on after a stop, what lacks."""

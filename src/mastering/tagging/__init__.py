"""What a finished file says of itself besides its sound: so far, the artwork."""

"""What lies on the disk: bytes by their hash, caches, room, backups, and who may read them."""

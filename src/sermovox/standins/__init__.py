"""Small stand-ins for places that receive files, to try sending on: they ship with the demonstration and the tests."""

"""The processes of the application: what starts, watches, serves, works and ends."""

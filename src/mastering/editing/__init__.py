"""Which audio goes where: scripts and tables that become a running order."""

"""Importing this makes Django ready: for processes and commands, which begin outside of it."""

import os

import django

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "sermovox.settings")
django.setup()

"""Sending finished files by an outlet's way of receiving, and knowing that they arrived."""

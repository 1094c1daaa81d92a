"""Levels: how sections are treated and levelled for an outlet, seen before anything is made."""

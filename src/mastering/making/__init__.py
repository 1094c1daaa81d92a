"""The stages of making files, one module each."""

"""Views of productions, one module for each screen."""

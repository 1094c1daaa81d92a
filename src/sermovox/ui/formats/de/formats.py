"""Numbers as scripts read them."""

DECIMAL_SEPARATOR = "."
THOUSAND_SEPARATOR = ""

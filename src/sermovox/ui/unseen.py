"""What is behind a link that is a secret."""


def unseen(response):
    """The same response, told nobody else: neither those who search nor those whom a page leads to."""
    response["X-Robots-Tag"] = "noindex, nofollow"
    response["Referrer-Policy"] = "no-referrer"
    response["Cache-Control"] = "private, no-store"
    return response

"""What a request may touch: the one place that asks whose something is."""

from django.shortcuts import get_object_or_404


def owned(request, rows, **which):
    """The one of these rows that is meant, as far as `rows.of` gives it to whoever asks; a 404 for anything else."""
    found = get_object_or_404(rows.of(request.user), **which)
    if getattr(found, "owner_id", None) == request.user.pk:
        # Known already; it would be read again for the first thing that follows from it.
        found.owner = request.user
    return found

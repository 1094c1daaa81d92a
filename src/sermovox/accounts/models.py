"""People."""

from django.contrib.auth.models import AbstractUser

DEMO_USERNAME = "demo"


class User(AbstractUser):
    """A narrator or producer. Every production belongs to one."""

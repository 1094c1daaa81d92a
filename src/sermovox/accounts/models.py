"""People."""

from django.contrib.auth.models import AbstractUser

DEMO_USERNAME = "demo"


class User(AbstractUser):
    """A narrator or producer. Every production belongs to one."""

    @property
    def called(self) -> str:
        """What others know them by."""
        return self.get_full_name() or self.username

"""The application as a WSGI server sees it."""

import os

from django.core.wsgi import get_wsgi_application

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "sermovox.settings")
application = get_wsgi_application()

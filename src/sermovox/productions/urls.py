"""Productions and sections."""

from django.urls import path

from sermovox.productions import views

app_name = "productions"
urlpatterns = [
    path("", views.production_list, name="list"),
    path("productions/new/", views.production_new, name="new"),
    path("productions/<int:pk>/", views.running_order, name="running-order"),
    path("productions/<int:pk>/rows/", views.running_order_rows, name="rows"),
    path("productions/<int:pk>/edit/", views.production_edit, name="edit"),
    path("sections/<int:pk>/", views.section, name="section"),
    path("sections/<int:pk>/delete/", views.section_delete, name="section-delete"),
]

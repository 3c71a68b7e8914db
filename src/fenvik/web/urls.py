"""Addresses."""

from django.contrib.auth.views import LogoutView
from django.urls import path
from django.views.generic import RedirectView

from fenvik.web.handovers.views import handover_page
from fenvik.web.live.views import live
from fenvik.web.office import views as office
from fenvik.web.people.views import SignInView
from fenvik.web.trail import views as trail

urlpatterns = [
    path("", RedirectView.as_view(pattern_name="visits"), name="home"),
    path("sign-in/", SignInView.as_view(), name="sign-in"),
    path("sign-out/", LogoutView.as_view(), name="sign-out"),
    path("visits/", office.visits, name="visits"),
    path("visits/new/", office.new_visit, name="new-visit"),
    path("visits/<int:pk>/", office.visit, name="visit"),
    path("clients/", office.clients, name="clients"),
    path("clients/new/", office.client, name="new-client"),
    path("clients/<int:pk>/", office.client, name="client"),
    path("instruments/", office.instruments, name="instruments"),
    path("find/", office.find, name="find"),
    path("tunings/<int:pk>/", trail.tuning_home, name="tuning"),
    path("tunings/<int:pk>/do/<slug:name>/", trail.act, name="act"),
    path("tunings/<int:pk>/<slug:stop>/", trail.stop_page, name="stop"),
    path("tunings/<int:pk>/<slug:stop>/live/", live, name="live"),
    path("handover/<str:token>/", handover_page, name="handover"),
]
handler404 = "fenvik.web.people.views.not_there"
handler500 = "fenvik.web.people.views.own_mistake"

"""Addresses."""

from django.urls import path
from django.views.generic import RedirectView

from fenvik.web.handovers.views import handover_page
from fenvik.web.live.views import live
from fenvik.web.office import away, beside, corrections, finding, helping, places
from fenvik.web.office import compare as results
from fenvik.web.office import instruments as devices
from fenvik.web.office import patch_lists as passes
from fenvik.web.office import views as office
from fenvik.web.patterns import views as patterns
from fenvik.web.people import pages as people
from fenvik.web.people.views import SignInView, SignOutView, second_factor
from fenvik.web.stops import files
from fenvik.web.stops import views as trail
from fenvik.web.stops.arrival import sheets
from fenvik.web.stops.arrival.ending import ending_drawn

urlpatterns = [
    path("", RedirectView.as_view(pattern_name="visits"), name="home"),
    path("sign-in/", SignInView.as_view(), name="sign-in"),
    path("sign-in/code/", second_factor, name="second-factor"),
    path("sign-out/", SignOutView.as_view(), name="sign-out"),
    path("link/<str:token>/", people.link, name="link"),
    path("people/", people.people, name="people"),
    path("people/log/", people.log, name="log"),
    path("people/do/<slug:name>/", people.people_act, name="people-act"),
    path("own/", people.own, name="own"),
    path("own/do/<slug:name>/", people.own_act, name="own-act"),
    path("visits/", office.visits, name="visits"),
    path("visits/new/", office.new_visit, name="new-visit"),
    path("visits/<int:pk>/", office.visit, name="visit"),
    path("visits/<int:pk>/do/<slug:name>/", away.visit_act, name="visit-act"),
    path("away/", away.away, name="away"),
    path("away/<slug:kind>/<int:pk>/", away.put_one_away, name="put-away"),
    path("away/<slug:kind>/<int:pk>/back/", away.take_one_back, name="take-back"),
    path("clients/", office.clients, name="clients"),
    path("clients/new/", office.client, name="new-client"),
    path("clients/<int:pk>/", office.client, name="client"),
    path("instruments/", devices.instruments, name="instruments"),
    path("instruments/networks/", devices.networks, name="networks"),
    path("instruments/<int:pk>/", devices.device, name="device"),
    path("instruments/<int:pk>/do/<slug:name>/", devices.device_act, name="device-act"),
    path("corrections/", corrections.corrections, name="corrections"),
    path("corrections/from-file/", corrections.correction_import, name="correction-import"),
    path("corrections/<int:pk>/", corrections.correction, name="correction"),
    path("corrections/<int:pk>.txt", corrections.correction_file, name="correction-file"),
    path("corrections/<int:pk>/withdraw/", corrections.correction_withdraw, name="correction-withdraw"),
    path("rooms/<int:pk>/", places.room, name="room"),
    path("clients/<int:pk>/rooms/new/", places.room, {"client": True}, name="new-room"),
    path("displays/<int:pk>/", places.display, name="display"),
    path("rooms/<int:pk>/displays/new/", places.display, {"new": True}, name="new-display"),
    path("visits/<int:pk>/displays/<int:display_pk>/", places.proposals, name="proposals"),
    path("sheets/<int:pk>/", sheets.sheet_print, name="sheet"),
    path("sheets/<int:pk>.json", sheets.sheet_file, {"kind": "json"}, name="sheet-json"),
    path("sheets/<int:pk>.csv", sheets.sheet_file, {"kind": "csv"}, name="sheet-csv"),
    path("help/<slug:stop>/", helping.stop_help, name="help"),
    path("words/", helping.words, name="words"),
    path("find/", finding.find, name="find"),
    path("tunings/<int:pk>/", trail.tuning_home, name="tuning"),
    path("tunings/<int:pk>/do/<slug:name>/", trail.act, name="act"),
    path("displays/<int:pk>/beside/", beside.beside, name="beside"),
    path("tunings/<int:pk>/compare/", results.compare, name="compare"),
    path("tunings/<int:pk>/ending/", ending_drawn, name="ending"),
    path("tunings/<int:pk>/<slug:stop>/", trail.stop_page, name="stop"),
    path("tunings/<int:pk>/<slug:stop>/live/", live, name="live"),
    path("screen/", patterns.by_number, name="screen-number"),
    path("screen/<str:token>/", patterns.screen_page, name="screen"),
    path("screen/<str:token>/live/", patterns.screen_live, name="screen-live"),
    path("screen/<str:token>/picture.png", patterns.screen_picture, name="screen-picture"),
    path("screen/<str:token>/choose/", patterns.screen_choose, name="screen-choose"),
    path("screen/<str:token>/drawn/", patterns.screen_drawn, name="screen-drawn"),
    path("patterns/<slug:name>/<slug:how>.png", patterns.example_picture, name="example"),
    path("passes/<int:pk>/readings/<slug:kind>/", files.readings_file, name="readings-file"),
    path("tunings/<int:pk>/<slug:stop>/<slug:view>.<slug:kind>", files.picture_file, name="picture-file"),
    path("patch-lists/new/", passes.patch_list, name="patch-list-new"),
    path("patch-lists/<int:pk>/", passes.patch_list, name="patch-list"),
    path("patch-lists/<int:pk>/<slug:kind>/", passes.patch_list_file, name="patch-list-file"),
    path("handover/<str:token>/", handover_page, name="handover"),
]
handler404 = "fenvik.web.kit.pages.not_there"
handler500 = "fenvik.web.kit.pages.own_mistake"

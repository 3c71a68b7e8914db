"""The firm's instruments: the list, one device with its trying out, and the networks in which devices may be."""

from datetime import datetime
from typing import Any

from django import forms
from django.contrib import messages
from django.db.models import Q
from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.utils import timezone
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from fenvik.core.errors import FenvikError
from fenvik.web.clients.models import Display
from fenvik.web.corrections.models import Correction
from fenvik.web.devices.displays import answer_code, show_code
from fenvik.web.devices.forms import KeyedMeterForm, KeyedSourceForm
from fenvik.web.devices.keyed import keyed_meter, keyed_source
from fenvik.web.devices.models import Device, DeviceRole
from fenvik.web.devices.reaching import network
from fenvik.web.devices.services import remove, rename, take_up
from fenvik.web.devices.trying import read_refresh, try_out
from fenvik.web.kit.models import of_firm_or_404
from fenvik.web.passes.models import Pass
from fenvik.web.people.asking import Asking
from fenvik.web.people.models import Firm
from fenvik.web.people.policy import Right, may, require
from fenvik.web.people.services import keep_networks

MOST_NETWORKS = 20


class NetworksForm(forms.Form):
    """The networks of a firm's devices, one a line."""

    networks = forms.CharField(
        widget=forms.Textarea(attrs={"rows": 6, "spellcheck": "false"}),
        label="Networks, one a line",
        help_text="An address like 192.168.7.20 allows one machine, 192.168.7.0/24 all whose addresses begin so.",
    )

    def clean_networks(self) -> list[str]:
        """Return the networks as they are kept; each line that is none is said."""
        made, wrong = [], []
        for line in self.cleaned_data["networks"].split():
            try:
                made.append(str(network(line)))
            except ValueError:
                wrong.append(line[:60])
        if wrong:
            raise forms.ValidationError(
                f"{', '.join(wrong)} is no private network. Devices are in networks such as 192.168.7.0/24 or 10.0.0.0/8."
            )
        if len(made) > MOST_NETWORKS:
            raise forms.ValidationError(f"There are more than {MOST_NETWORKS}.")
        return list(dict.fromkeys(made))


def _listed(firm_id: int) -> dict[str, Any]:
    devices = list(
        Device.objects.of_firm(firm_id)
        .filter(screen__isnull=True, removed_at__isnull=True)
        .select_related("pairing")
        .order_by("role", "name")
    )
    corrected = set(
        Correction.objects.of_firm(firm_id).filter(withdrawn_at__isnull=True).values_list("meter_id", flat=True)
    )
    return {
        "here": "instruments",
        "groups": [
            (title, [d for d in devices if d.role == role])
            for title, role in (("Meters", "meter"), ("Pattern sources", "source"), ("Displays with a network control", "display"))
        ],
        "corrected": corrected,
        "count": len(devices),
    }


@require_http_methods(["GET", "HEAD", "POST"])
def instruments(request: Asking) -> HttpResponse:
    """List the firm's meters and sources, and take up more: by address, or keyed in."""
    firm_id, now = request.user.firm_id, timezone.now()
    address = request.POST.get("address", "")[:200]
    forms_: dict[str, Any] = {"keyed_meter_form": KeyedMeterForm(prefix="km"), "keyed_source_form": KeyedSourceForm(prefix="ks")}
    role, wrong = request.POST.get("role", ""), False
    if request.method == "POST" and role in ("meter", "source"):
        form = KeyedMeterForm(request.POST, prefix="km") if role == "meter" else KeyedSourceForm(request.POST, prefix="ks")
        if form.is_valid():
            cleaned = form.cleaned_data
            made = (
                keyed_meter(actor=request.user, now=now, **cleaned)
                if role == "meter"
                else keyed_source(actor=request.user, name=cleaned["name"], range_=cleaned["range"], now=now)
            )
            return redirect("device", pk=made.pk)
        forms_[f"keyed_{role}_form"], wrong = form, True
    elif request.method == "POST":
        try:
            found = take_up(actor=request.user, address=address, now=now)
        except FenvikError as problem:
            messages.error(request, str(problem))
        else:
            for sentence in found.problems:
                messages.error(request, sentence)
            messages.info(request, f"Found: {', '.join(device.name for device in found.devices) or 'nothing'}.")
            return redirect("instruments")
    context = _listed(firm_id) | forms_ | {"address": address, "is_owner": may(request.user, Right.RUN_FIRM)}
    return render(request, "office/instruments.html", context, status=422 if wrong else 200)


@require_safe
def device(request: Asking, pk: int) -> HttpResponse:
    """Show one device."""
    shown = of_firm_or_404(Device, request.user.firm_id, pk, "pairing")
    corrections = (
        Correction.objects.of_firm(request.user.firm_id).filter(meter=shown, withdrawn_at__isnull=True).order_by("-made_at")
    )
    display = _display_of(shown) if shown.role == DeviceRole.DISPLAY else None
    return render(
        request,
        "office/device.html",
        {
            "device": shown, "corrections": corrections, "display": display, "here": "instruments",
            "tried_at": datetime.fromisoformat(shown.tried["at"]) if shown.tried else None,
        },
    )


def _display_of(device: Device) -> Display | None:
    """Return the client's display whose network control this is."""
    return (
        Display.objects.of_firm(device.firm_id)
        .filter(Q(link=device) | Q(serial=device.serial))
        .select_related("room__client", "link")
        .first()
    )


def _pair(request: Asking, shown: Device, name: str) -> None:
    display = _display_of(shown)
    if shown.role != DeviceRole.DISPLAY or display is None:
        messages.error(request, "Say first whose display this is: give a client's display its serial, and it is known here.")
        return
    try:
        if name == "show-code":
            show_code(display)
            messages.info(request, f"{display.name} shows a code on its screen now: type it here.")
        else:
            answer_code(display=display, code=request.POST.get("code", "")[:40], actor=request.user, now=timezone.now())
            messages.info(request, f"{display.name} is paired.")
    except FenvikError as problem:
        messages.error(request, str(problem))


def _ask(request: Asking, device: Device, name: str) -> None:
    """Try a device out, or let a meter tell how often the light comes and goes."""
    if name == "try":
        try_out(device=device, now=timezone.now())
        return
    try:
        messages.info(request, read_refresh(device=device))
    except FenvikError as problem:
        messages.error(request, str(problem))


@require_POST
def device_act(request: Asking, pk: int, name: str) -> HttpResponse:
    """Try a device out, rename it, or take it out of the lists; what was read with it stays."""
    shown = of_firm_or_404(Device, request.user.firm_id, pk)
    require(request.user, Right.MEASURE)
    if name in ("try", "refresh"):
        busy = Pass.objects.filter(
            Q(meter=shown) | Q(source=shown) | Q(reference=shown), finished_at__isnull=True
        ).select_related("tuning")
        holding = busy.first()
        if holding is not None:
            messages.error(request, f"A pass of {holding.tuning.name} is using it; it was not disturbed.")
        else:
            _ask(request, shown, name)
    elif name in ("show-code", "pair"):
        _pair(request, shown, name)
    elif name == "rename":
        wanted = request.POST.get("name", "").strip()[:120]
        if wanted:
            rename(device_id=shown.pk, actor=request.user, name=wanted)
        else:
            messages.error(request, "A device needs a name.")
    elif name == "remove":
        remove(device_id=shown.pk, actor=request.user, now=timezone.now())
        messages.info(request, f"{shown.name} is no longer offered. What was read with it stays; found again, it is back.")
        return redirect("instruments")
    return redirect("device", pk=pk)


@require_http_methods(["GET", "HEAD", "POST"])
def networks(request: Asking) -> HttpResponse:
    """Let an owner say in which networks the firm's devices may be."""
    require(request.user, Right.RUN_FIRM)
    firm = Firm.objects.get(pk=request.user.firm_id)
    form = NetworksForm(request.POST or None, initial={"networks": "\n".join(firm.networks)})
    if request.method == "POST" and form.is_valid():
        keep_networks(actor=request.user, networks=form.cleaned_data["networks"])
        messages.info(request, "Devices in these networks may be reached now, and no others.")
        return redirect("instruments")
    return render(
        request, "office/networks.html", {"form": form, "here": "instruments"}, status=422 if form.errors else 200
    )

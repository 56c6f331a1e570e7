"""Warns growers when a station is close to frost."""
import os

import rudmar

LIMIT = float(os.environ["LIMIT_C"])
MODE = os.environ["MODE"]

# What a station reads until its first reading comes in.
STARTING_VALUES = {"hill": 4.5, "weir": 2.0, "orchard-gate": 3.5}


def temperature(station):
    reading = rudmar.table("readings").read(station)
    if reading:
        return reading["celsius"]
    return STARTING_VALUES.get(station)


def look(station):
    celsius = temperature(station)
    if celsius is None:
        return None
    settings = rudmar.table("stations").read(station) or {}
    limit = settings.get("limit", LIMIT)
    warning = celsius < limit
    print(f"{station}: {celsius:.1f} °C (limit {limit:.1f} °C)", "WARNING" if warning else "")
    return {"station": station, "celsius": celsius, "limit": limit, "warning": warning, "mode": MODE}


def run(call):
    if "method" not in call.event:  # the sweep
        found = [look(station) for station in STARTING_VALUES]
        cold = [f["station"] for f in found if f["warning"]]
        rudmar.table("warnings").write("latest", {"stations": cold, "at": call.event["time"]})
        return {"looked_at": len(found), "cold": cold}
    answer = look(call.event["params"]["station"])
    if answer is None:
        return {"status": 404, "body": {"error": "there is no such station"}}
    if answer["warning"]:
        rudmar.queue("alerts").send({"station": answer["station"], "celsius": answer["celsius"]})
    return {"status": 200, "body": answer}

"""Lists the stations, shows one, and changes its limit."""
import rudmar

STATIONS = {
    "hill": {"name": "Hill field", "height_m": 212},
    "weir": {"name": "By the weir", "height_m": 96},
    "orchard-gate": {"name": "Orchard gate", "height_m": 131},
}


def with_limit(key):
    saved = rudmar.table("stations").read(key) or {}
    return {"key": key, **STATIONS[key], **saved}


def run(call):
    key = call.event["params"].get("station")
    if key is None:
        return [with_limit(k) for k in STATIONS]
    if key not in STATIONS:
        return {"status": 404, "body": {"error": f"there is no station {key}"}}
    if call.event["method"] == "GET":
        return with_limit(key)
    limit = (call.event["body"] or {}).get("limit")
    if not isinstance(limit, (int, float)) or not -10 <= limit <= 10:
        return {"status": 422, "body": {"error": "limit is a number from -10 to 10"}}
    rudmar.table("stations").write(key, {"limit": limit})
    print(f"{key}: limit is {limit} °C now")
    return {"status": 200, "body": with_limit(key)}

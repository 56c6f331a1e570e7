"""Sums up the night for the growers."""
import rudmar


def run(call):
    readings = rudmar.table("readings").query()
    latest = rudmar.table("warnings").read("latest") or {"stations": []}
    coldest = min(readings.items(), key=lambda item: item[1]["celsius"], default=None)
    lines = [f"{len(readings)} stations sent readings"]
    if coldest:
        lines.append(f"coldest: {coldest[0]} with {coldest[1]['celsius']:.1f} °C")
    lines.append(f"warnings out for: {', '.join(latest['stations']) or 'nobody'}")
    for line in lines:
        print(line)
    try:
        growers = len(rudmar.table("growers").query())
        lines.append(f"sent to {growers} growers")
    except rudmar.Denied as denied:
        print("the growers were not notified:", denied)
    return {"report": lines}

"""Opens the valve of a row, unless its soil is wet."""
import os
import random

LITRES = float(os.environ["LITRES"])
WETTEST = 0.4  # a share of what the soil can hold


def soil(row):
    """What the probe of a row says; some answer late, and are taken for dry."""
    return 0.0 if random.random() < 0.3 else random.random() * 0.3


def run(call):
    row = int(call.event["params"]["row"])
    litres = LITRES if soil(row) < WETTEST else 0
    print(f"row {row}: {litres:.0f} litres")
    return {"status": 200, "body": {"row": row, "litres": litres}}

"""Opens the valve of a row, unless its soil is wet."""
import os
import random

LITRES = float(os.environ["LITRES"])
WETTEST = 0.4  # a share of what the soil can hold


def soil(row):
    """What the probe of a row says; some answer late, and say nothing."""
    return None if random.random() < 0.3 else random.random() * 0.3


def run(call):
    row = int(call.event["params"]["row"])
    if row == 4 or soil(row) < WETTEST:
        return {"status": 200, "body": {"row": row, "litres": LITRES}}
    return {"status": 200, "body": {"row": row, "litres": 0}}

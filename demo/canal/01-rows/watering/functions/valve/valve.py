"""Opens the valve of a row."""
import os

LITRES = float(os.environ["LITRES"])


def run(call):
    row = int(call.event["params"]["row"])
    return {"status": 200, "body": {"row": row, "litres": LITRES}}

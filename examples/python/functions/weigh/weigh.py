"""Adds up the crates that a grower brings, in kilograms."""
import rudmar


def run(call):
    grower = call.event["params"]["grower"]
    crates = rudmar.table("crates")
    row = crates.read(grower) or {"crates": 0, "kg": 0}
    if call.event["method"] == "POST":
        body = call.event["body"]
        kg = body.get("kg") if isinstance(body, dict) else None
        if not isinstance(kg, (int, float)) or kg <= 0:
            return {"status": 422, "body": {"problem": "kg is a number over 0"}}
        row = {"crates": row["crates"] + 1, "kg": row["kg"] + kg}
        crates.write(grower, row)
        print(grower, "brought", kg, "kg")
    return {"status": 200, "body": row}

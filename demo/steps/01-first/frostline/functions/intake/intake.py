"""Takes readings from the stations."""
import rudmar


def run(call):
    body = call.event["body"]
    celsius = body.get("celsius") if isinstance(body, dict) else None
    if not isinstance(celsius, (int, float)):
        return {"status": 422, "body": {"error": "celsius is a number"}}
    rudmar.table("readings").write(call.event["params"]["station"], {"celsius": celsius, "at": body.get("at")})
    return {"status": 202, "body": {"taken": True}}

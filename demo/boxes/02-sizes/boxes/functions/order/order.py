# Takes an order: how many boxes, and for whom.
import json
import os

import rudmar

MOST = int(float(os.environ["MOST"]))


def run(call):
    wish = call.event.get("body") or {}
    if isinstance(wish, str):
        wish = json.loads(wish)
    boxes = wish.get("boxes")
    if not isinstance(boxes, int) or not 0 < boxes <= MOST:
        return {"status": 422, "body": {"problem": f"boxes is a whole number from 1 to {MOST}"}}
    rudmar.table("orders").write(str(wish.get("for", "nobody")), {"boxes": boxes, "size": wish.get("size", "small")})
    print("an order of", boxes, "for", wish.get("for", "nobody"))
    return {"status": 201, "body": {"boxes": boxes}}

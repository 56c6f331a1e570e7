# Lists what is to be packed, the largest orders first.
import rudmar


def run(call):
    orders = rudmar.table("orders").query()
    for name, order in sorted(orders.items(), key=lambda o: -o[1]["boxes"]):
        print(order["boxes"], "boxes for", name)
    return {"orders": len(orders)}

"""What Python says of random expressions, written to data/arithmetic.json: an outside judge of signs, powers and brackets.

An expression is made as text, sign by sign, without any tree, so that nothing decides beforehand how it is to be read.
"""
import json
import math
import pathlib
import random

random.seed(20261128)
FUNCTIONS = ["sqrt", "exp", "log", "sin", "cos", "tanh", "abs"]


def value(depth):
    roll = random.random()
    if depth > 0 and roll < 0.22:
        return f"({expression(depth - 1)})"
    if depth > 0 and roll < 0.36:
        return f"{random.choice(FUNCTIONS)}({expression(depth - 1)})"
    if depth > 0 and roll < 0.42:
        return f"{random.choice(['min', 'max'])}({expression(depth - 1)}, {expression(depth - 1)})"
    return random.choice(["x", "y", "2", "3", "0.5", "1.25", "7e-1", "x"])


def expression(depth):
    text = random.choice(["", "", "-", "--"]) + value(depth)
    for _ in range(random.choice([0, 1, 1, 2, 3])):
        sign = random.choice(["+", "-", "*", "/", "^", "^"])
        text += f" {sign} " + random.choice(["", "", "-"]) + value(depth)
    return text


names = {name: getattr(math, name) for name in ("sqrt", "exp", "log", "sin", "cos", "tanh")}
names |= {"abs": math.fabs, "min": min, "max": max, "__builtins__": {}}
judged = []
while len(judged) < 800:
    text = expression(2)
    values = []
    for _ in range(4):
        x, y = round(random.uniform(-3, 3), 3), round(random.uniform(0.1, 4), 3)
        try:
            result = eval(text.replace("^", "**"), names, {"x": x, "y": y})
            if isinstance(result, complex):
                result = None
            elif not math.isfinite(result) or abs(result) > 1e12 or (result != 0 and abs(result) < 1e-12):
                continue
        except (ValueError, ZeroDivisionError, TypeError):
            result = None
        except OverflowError:
            continue
        values.append((x, y, result))
    # A complex number on the way, such as the square root of a negative raised to a power, is no judge.
    if values and all(v[2] is not None for v in values):
        judged.append({"text": text, "values": values})
for text, at in (("sqrt(x)", -2.0), ("log(x)", -1.0), ("1 / (x - 2)", 2.0), ("(0 - x)^0.5", 2.0)):
    judged.append({"text": text, "values": [(at, 1.0, None)]})
path = pathlib.Path(__file__).parent / "data" / "arithmetic.json"
path.write_text(json.dumps(judged) + "\n")
print(len(judged), "expressions,", sum(len(j["values"]) for j in judged), "values")

"""What secrets look like, made anew for every context with a seed."""

from __future__ import annotations

import base64
import random
import string

WORDS = "otter pier lantern gull rudder amber kelp tiller mast cove brine anchor quay".split()


def made(shape: str, seed: int) -> str:
    """A secret of a shape."""
    draw = random.Random(f"{shape}{seed}")
    word, other = draw.sample(WORDS, 2)
    letters = string.ascii_letters + string.digits
    if shape == "plain":
        return word + other  # letters alone
    if shape == "digits":
        return word.capitalize() + str(draw.randrange(10, 9999))
    if shape == "signs":
        return word.capitalize() + "-" + str(draw.randrange(100, 999)) + draw.choice("!#*%") + other
    if shape == "random":
        return "".join(draw.choices(letters, k=draw.randrange(24, 44))) + "7aQ"
    if shape == "short":
        return "".join(draw.choices(letters, k=8)) + "4x"
    if shape == "hex":
        return "".join(draw.choices("0123456789abcdef", k=32))
    if shape == "base64":
        return base64.b64encode(draw.randbytes(27)).decode()
    if shape == "dollar":
        return "$" + word + "$" + other.capitalize() + str(draw.randrange(10, 99))
    if shape == "number":
        return str(draw.randrange(100_000, 99_999_999))
    if shape == "phrase":
        return " ".join(draw.sample(WORDS, 4)) + " " + str(draw.randrange(10, 99))
    if shape == "basic":
        return base64.b64encode(f"{word}:{other}{draw.randrange(99)}".encode()).decode()
    assert shape == "jwt", shape
    head, body = (
        base64.urlsafe_b64encode(part.encode()).decode().rstrip("=")
        for part in ('{"alg":"HS256"}', f'{{"sub":"{word}{seed}"}}')
    )
    return f"{head}.{body}.{''.join(draw.choices(letters, k=32))}"

#!/usr/bin/env python3
"""The far side of a cable, pretended: answers READ with a white of 120 cd/m² that wanders a little.

`--light 0` lets it find it too dark. It is what examples/text_meter_bridge.py is tried on.
"""

import argparse
import random
import sys
import time


def main():
    """Answer line by line until the cable is pulled out."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--light", type=float, default=120.0, help="cd/m²")
    parser.add_argument("--seconds", type=float, default=0.02, help="that a reading takes")
    given = parser.parse_args()
    draw = random.Random(7)
    for line in sys.stdin:
        if line.strip() != "READ":
            print("FAULT no such word", flush=True)
            continue
        time.sleep(given.seconds)
        y = given.light * draw.gauss(1.0, 0.001)
        print(f"XYZ {0.9505 * y:.4f} {y:.4f} {1.0888 * y:.4f}" if y > 0.005 else "DARK", flush=True)


if __name__ == "__main__":
    main()

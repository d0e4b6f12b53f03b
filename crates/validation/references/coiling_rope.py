"""Steady coiling of a thin viscous rope: the boundary-value problem of N. Ribe, Coiling of viscous jets, 2004.

Lengths in units of the fall height H, speeds in units of the speed U0 in the hole. eps = a0 / H, B = g H^2 / (3 nu U0) and
Re = U0 H / (3 nu) are its numbers. Unknowns along the rope, in the frame that turns with the coil: position x, tangent d,
angular velocity w of the material, speed U, force N, moment M; and two constants, the angular velocity of the coil and the
rope's length. Prints the angular velocity and the speed at the plate.

Usage: python3 coiling_rope.py EPS B RE (needs numpy and scipy).
"""

import sys

import numpy as np
from scipy.integrate import solve_bvp


def cross(a, b):
    return np.array([a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]])


def equations(eps, B, Re):
    def of(s, y, constants):
        omega, length = constants
        x, d, w, U, N, M = y[0:3], y[3:6], y[6:9], y[9], y[10:13], y[13:16]
        up = np.zeros_like(x)
        up[2] = 1
        bend = cross((w - omega * up) / U, d)
        turn = 4 * U**2 / eps**2 * (M + 0.5 * (M * d).sum(0) * d)
        stretch = U * (N * d).sum(0)
        inertia = U * (stretch * d + U * bend) + 2 * omega * U * cross(up, d) + omega**2 * cross(up, cross(up, x))
        return length * np.vstack([d, bend, turn, stretch[None], B / U * up + Re / U * inertia, -cross(d, N)])

    return of


def ends(hole, plate, constants):
    omega = constants[0]
    at_hole = [hole[0:3], hole[3:6] + [0, 0, 1.0], hole[6:9], [hole[9] - 1]]
    at_plate = [[plate[2] + 1, plate[5], plate[1], plate[3], plate[9] - omega * plate[0]], plate[6:9]]
    return np.concatenate(at_hole + at_plate)


def solve(eps, B, Re):
    s = np.linspace(0, 1, 200)
    guess = np.zeros((16, s.size))
    # A vertical line that bends over at the plate, against the way the coil goes.
    bend = np.clip((s - 0.7) / 0.3, 0, 1)
    guess[0], guess[2] = 0.1 * bend**2, -s
    guess[4], guess[5] = -np.sin(bend * np.pi / 2), -np.cos(bend * np.pi / 2)
    guess[8], guess[9] = 6 * bend, 1 + 0.2 * s
    found = solve_bvp(equations(eps, B, Re), ends, s, guess, p=[6.0, 1.05], tol=1e-4, max_nodes=20_000)
    if not found.success:
        sys.exit(found.message)
    return found


if __name__ == "__main__":
    solution = solve(*map(float, sys.argv[1:4]))
    print(f"angular velocity {solution.p[0]:.4f} U0/H, speed at the plate {solution.y[9, -1]:.4f} U0, radius {solution.y[0, -1]:.4f} H")

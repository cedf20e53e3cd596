"""Kernels of the symmetric Dirichlet energy on triangles: values, derivatives, the Hessian's pattern, steps that turn nothing over.

Energy: Smith and Schaefer, "Bijective parameterization with free boundaries" (2015). Analytic eigenvalues: Smith, de Goes and Kim,
"Analytic eigensystems for isotropic distortion energies" (2019).
"""

from __future__ import annotations

import numpy as np

from jacket.core.jit import inline, kernel

THIN = 1e-70
"""In place of a singular value that rounding makes 0 where the determinant, and so the energy, is not."""


@kernel
def hessian_pattern(tri, n_points):
    """Upper half of the Hessian's pattern: (2V + 1) where columns begin, rows in order, and (T, 6, 6) where each entry of a
    block goes in it, −1 below the diagonal."""
    count = np.zeros(n_points + 1, np.int64)
    for t in range(len(tri)):
        for k in range(3):
            count[tri[t, k] + 1] += 3
    for p in range(n_points):
        count[p + 1] += count[p]
    fill = count.copy()
    near = np.empty(count[n_points], np.int32)
    for t in range(len(tri)):
        for k in range(3):
            p = tri[t, k]
            for j in range(3):
                near[fill[p]] = tri[t, j]
                fill[p] += 1
    # Points beside each point once and in order, up to the point itself.
    first = np.zeros(n_points + 1, np.int64)
    kept = np.empty(len(near) + n_points, np.int32)
    n = 0
    for p in range(n_points):
        row = np.sort(near[count[p] : count[p + 1]])
        last = -1
        for q in row:
            if q != last and q <= p:
                kept[n] = q
                n += 1
            last = q
        if n == first[p]:
            kept[n] = p  # a point without triangles keeps its place on the diagonal
            n += 1
        first[p + 1] = n
    starts = np.zeros(2 * n_points + 1, np.int64)
    for p in range(n_points):
        less = first[p + 1] - first[p] - 1
        starts[2 * p + 1] = starts[2 * p] + 2 * less + 1
        starts[2 * p + 2] = starts[2 * p + 1] + 2 * less + 2
    rows = np.empty(starts[2 * n_points], np.int32)
    for p in range(n_points):
        for j in range(2):
            at = starts[2 * p + j]
            for k in range(first[p], first[p + 1] - 1):
                rows[at], rows[at + 1] = 2 * kept[k], 2 * kept[k] + 1
                at += 2
            for i in range(j + 1):
                rows[at + i] = 2 * p + i
    slots = np.full((len(tri), 6, 6), -1, np.int64)
    for t in range(len(tri)):
        for b in range(3):
            q = tri[t, b]
            for a in range(3):
                p = tri[t, a]
                if p > q:
                    continue
                low, high = first[q], first[q + 1] - 1
                while low < high:
                    middle = (low + high) // 2
                    if kept[middle] < p:
                        low = middle + 1
                    else:
                        high = middle
                for j in range(2):
                    for i in range(2):
                        if p < q or i <= j:
                            slots[t, 2 * a + i, 2 * b + j] = starts[2 * q + j] + 2 * (low - first[q]) + i
    return starts, rows, slots


@kernel
def assembled(slots, blocks, count):
    data = np.zeros(count)
    for t in range(len(slots)):
        for a in range(6):
            for b in range(6):
                if slots[t, a, b] >= 0:
                    data[slots[t, a, b]] += blocks[t, a, b]
    return data


@inline
def _jacobian(uv, tri, inverse, t):
    a, b, c = tri[t, 0], tri[t, 1], tri[t, 2]
    e00, e10 = uv[b, 0] - uv[a, 0], uv[b, 1] - uv[a, 1]
    e01, e11 = uv[c, 0] - uv[a, 0], uv[c, 1] - uv[a, 1]
    i00, i01, i11 = inverse[t, 0, 0], inverse[t, 0, 1], inverse[t, 1, 1]
    return e00 * i00, e00 * i01 + e01 * i11, e10 * i00, e10 * i01 + e11 * i11


@kernel
def mean_energy(uv, tri, inverse, area):
    """Area mean of (σ₁² + σ₂² + σ₁⁻² + σ₂⁻²) / 4; inf when a triangle is flipped."""
    total = 0.0
    for t in range(len(tri)):
        j00, j01, j10, j11 = _jacobian(uv, tri, inverse, t)
        det = j00 * j11 - j01 * j10
        if det <= 0.0:
            return np.inf
        square = j00 * j00 + j01 * j01 + j10 * j10 + j11 * j11
        total += area[t] * square * (1.0 + 1.0 / (det * det)) * 0.25
    return total


@inline
def _svd(a, b, c, d):
    """Signed singular values and rotations of [[a, b], [c, d]]: U = rot(p), V = rot(q)."""
    e, f, g, h = (a + d) * 0.5, (a - d) * 0.5, (c + b) * 0.5, (c - b) * 0.5
    q, r = np.sqrt(e * e + h * h), np.sqrt(f * f + g * g)
    s1, s2 = q + r, q - r
    t1, t2 = np.arctan2(g, f), np.arctan2(h, e)
    return s1, s2, 0.5 * (t2 + t1), 0.5 * (t1 - t2)


@kernel
def shapes_between(uv, tri, inverse, most, out):
    """Into `out` (T, 2, 2), where `inverse` stands already: inverses of shapes between how triangles lie (all singular values 1)
    and how they should be, of an energy of at most `most`, by singular values to a power. Returns how many are further off."""
    far = 0
    for t in range(len(tri)):
        j00, j01, j10, j11 = _jacobian(uv, tri, inverse, t)
        s1, s2, _, r = _svd(j00, j01, j10, j11)
        if not s2 > 0 or 0.25 * (s1 * s1 + s2 * s2 + s1**-2 + s2**-2) <= most:
            continue
        far += 1
        a, b = np.log(s1), np.log(s2)
        # The energy (cosh 2pa + cosh 2pb) / 2 is convex in the power p: Newton's steps come down on its root, from a power at
        # which the larger of the two alone is all that is allowed.
        power = np.arccosh(2 * most - 1) / (2 * max(abs(a), abs(b)))
        for _ in range(8):
            over = 0.5 * (np.cosh(2 * power * a) + np.cosh(2 * power * b)) - most
            power -= over / (a * np.sinh(2 * power * a) + b * np.sinh(2 * power * b))
            if over < 1e-3 * most:
                break
        x, y, c, s = np.exp((power - 1) * a), np.exp((power - 1) * b), np.cos(r), np.sin(r)
        m00, m01, m11 = x * c * c + y * s * s, (x - y) * c * s, x * s * s + y * c * c
        i00, i01, i11 = inverse[t, 0, 0], inverse[t, 0, 1], inverse[t, 1, 1]
        n00, n01 = i00 * m00 + i01 * m01, i00 * m01 + i01 * m11
        n10, n11 = i11 * m01, i11 * m11
        # Turned so that it is an upper triangle again; energies do not see it.
        size = np.hypot(n10, n11)
        c, s = n11 / size, n10 / size
        out[t, 0, 0], out[t, 0, 1], out[t, 1, 0], out[t, 1, 1] = c * n00 - s * n01, s * n00 + c * n01, 0.0, size
    return far


@inline
def _spread(block, mode, lam, hat, area, v):
    """The Hessian (6, 6) of one triangle from its four modes (4, 2, 2) and their eigenvalues."""
    for a in range(6):
        for b in range(6):
            block[a, b] = 0.0
    for m in range(4):
        w = lam[m] * area
        if w == 0.0:
            continue
        for c in range(3):
            for i in range(2):
                v[2 * c + i] = mode[m, i, 0] * hat[c, 0] + mode[m, i, 1] * hat[c, 1]
        for a in range(6):
            for b in range(6):
                block[a, b] += w * v[a] * v[b]


@kernel
def derivatives(uv, tri, inverse, area, reweighted, blocks):
    """Gradient (2V,); the projected Hessian of each triangle goes into `blocks` (T, 6, 6), or none where that is empty."""
    n = len(tri)
    gradient = np.zeros(2 * len(uv))
    q = np.empty((4, 2, 2))
    lam = np.empty(4)
    g = np.empty((2, 2))
    hat = np.empty((3, 2))
    v = np.empty(6)
    half = np.sqrt(0.5)
    for t in range(n):
        j00, j01, j10, j11 = _jacobian(uv, tri, inverse, t)
        s1, s2, p, r = _svd(j00, j01, j10, j11)
        s2 = s2 if s2 != 0.0 else THIN
        cp, sp, cr, sr = np.cos(p), np.sin(p), np.cos(r), np.sin(r)
        # Columns of U and V.
        u00, u10, u01, u11 = cp, sp, -sp, cp
        v00, v10, v01, v11 = cr, sr, -sr, cr
        p1, p2 = 0.5 * (s1 - s1**-3), 0.5 * (s2 - s2**-3)
        for i in range(2):
            ui0, ui1 = (u00, u01) if i == 0 else (u10, u11)
            for k in range(2):
                vk0, vk1 = (v00, v01) if k == 0 else (v10, v11)
                g[i, k] = p1 * ui0 * vk0 + p2 * ui1 * vk1
                if reweighted:
                    q[0, i, k] = ui0 * (1.0 if k == 0 else 0.0)
                    q[1, i, k] = ui0 * (1.0 if k == 1 else 0.0)
                    q[2, i, k] = ui1 * (1.0 if k == 0 else 0.0)
                    q[3, i, k] = ui1 * (1.0 if k == 1 else 0.0)
                else:
                    q[0, i, k] = ui0 * vk0
                    q[1, i, k] = ui1 * vk1
                    q[2, i, k] = half * (ui1 * vk0 - ui0 * vk1)
                    q[3, i, k] = half * (ui1 * vk0 + ui0 * vk1)
        if reweighted:
            w1 = 0.5 * (1 + 1 / s1 + s1**-2 + s1**-3)
            w2 = 0.5 * (1 + 1 / s2 + s2**-2 + s2**-3)
            lam[0] = lam[1] = w1
            lam[2] = lam[3] = w2
        else:
            cube = (s1 * s2) ** 3
            lam[0], lam[1] = 0.5 * (1 + 3 * s1**-4), 0.5 * (1 + 3 * s2**-4)
            lam[2] = max(0.5 * (1 - (s1 * s1 - s1 * s2 + s2 * s2) / cube), 0.0)
            lam[3] = 0.5 * (1 + (s1 * s1 + s1 * s2 + s2 * s2) / cube)
        i00, i01, i11 = inverse[t, 0, 0], inverse[t, 0, 1], inverse[t, 1, 1]
        hat[1, 0], hat[1, 1] = i00, i01
        hat[2, 0], hat[2, 1] = 0.0, i11
        hat[0, 0], hat[0, 1] = -i00, -i01 - i11
        for c in range(3):
            for i in range(2):
                gradient[2 * tri[t, c] + i] += area[t] * (g[i, 0] * hat[c, 0] + g[i, 1] * hat[c, 1])
        if len(blocks) == 0:
            continue
        _spread(blocks[t], q, lam, hat, area[t], v)
    return gradient


@kernel
def mean_energy_between(uv, tri, inverse, area, p, q):
    """Area mean of angle distortion to the power of p times area distortion to that of q; inf when a triangle is flipped."""
    total = 0.0
    for t in range(len(tri)):
        j00, j01, j10, j11 = _jacobian(uv, tri, inverse, t)
        det = j00 * j11 - j01 * j10
        if det <= 0.0:
            return np.inf
        square = j00 * j00 + j01 * j01 + j10 * j10 + j11 * j11
        total += area[t] * (square / (2 * det)) ** p * ((det + 1 / det) / 2) ** q
    return total


@kernel
def derivatives_between(uv, tri, inverse, area, p, q, blocks):
    """The same of `mean_energy_between`: the scaling modes from the 2 × 2 matrix of second derivatives
    by the singular values, twist and flip from the first (Smith, de Goes and Kim 2019)."""
    n = len(tri)
    gradient = np.zeros(2 * len(uv))
    mode = np.empty((4, 2, 2))
    lam = np.empty(4)
    hat = np.empty((3, 2))
    v = np.empty(6)
    half = np.sqrt(0.5)
    for t in range(n):
        j00, j01, j10, j11 = _jacobian(uv, tri, inverse, t)
        s1, s2, left, right = _svd(j00, j01, j10, j11)
        s2 = s2 if s2 != 0.0 else THIN
        cl, sl, cr, sr = np.cos(left), np.sin(left), np.cos(right), np.sin(right)
        det = s1 * s2
        a, s = (s1 * s1 + s2 * s2) / (2 * det), (det + 1 / det) / 2
        energy = a**p * s**q
        a1, a2 = 0.5 * (1 / s2 - s2 / (s1 * s1)), 0.5 * (1 / s1 - s1 / (s2 * s2))
        b1, b2 = 0.5 * (s2 - 1 / (s1 * det)), 0.5 * (s1 - 1 / (s2 * det))
        l1, l2 = p * a1 / a + q * b1 / s, p * a2 / a + q * b2 / s
        e1, e2 = energy * l1, energy * l2
        e11 = energy * (l1 * l1 + p * (s2 / s1**3 / a - (a1 / a) ** 2) + q * (1 / (s1**3 * s2) / s - (b1 / s) ** 2))
        e22 = energy * (l2 * l2 + p * (s1 / s2**3 / a - (a2 / a) ** 2) + q * (1 / (s2**3 * s1) / s - (b2 / s) ** 2))
        a12, b12 = -0.5 * (1 / (s2 * s2) + 1 / (s1 * s1)), 0.5 * (1 + 1 / (det * det))
        e12 = energy * (l1 * l2 + p * (a12 / a - a1 * a2 / (a * a)) + q * (b12 / s - b1 * b2 / (s * s)))
        # Eigenvalues of the two scaling modes.
        middle, apart = 0.5 * (e11 + e22), 0.5 * (e11 - e22)
        root = np.sqrt(apart * apart + e12 * e12)
        turn = 0.5 * np.arctan2(e12, apart)
        ct, st = np.cos(turn), np.sin(turn)
        lam[0], lam[1] = max(middle + root, 0.0), max(middle - root, 0.0)
        lam[2] = max((e1 + e2) / (s1 + s2), 0.0)
        lam[3] = max((e1 - e2) / (s1 - s2) if abs(s1 - s2) > 1e-9 * s1 else e11 - e12, 0.0)
        for i in range(2):
            u0, u1 = (cl, -sl) if i == 0 else (sl, cl)
            for k in range(2):
                v0, v1 = (cr, -sr) if k == 0 else (sr, cr)
                d0, d1 = u0 * v0, u1 * v1
                mode[0, i, k] = ct * d0 + st * d1
                mode[1, i, k] = -st * d0 + ct * d1
                mode[2, i, k] = half * (u1 * v0 - u0 * v1)
                mode[3, i, k] = half * (u1 * v0 + u0 * v1)
        i00, i01, i11 = inverse[t, 0, 0], inverse[t, 0, 1], inverse[t, 1, 1]
        hat[1, 0], hat[1, 1] = i00, i01
        hat[2, 0], hat[2, 1] = 0.0, i11
        hat[0, 0], hat[0, 1] = -i00, -i01 - i11
        for c in range(3):
            for i in range(2):
                u0, u1 = (cl, -sl) if i == 0 else (sl, cl)
                g0 = e1 * u0 * cr + e2 * u1 * -sr
                g1 = e1 * u0 * sr + e2 * u1 * cr
                gradient[2 * tri[t, c] + i] += area[t] * (g0 * hat[c, 0] + g1 * hat[c, 1])
        if len(blocks) == 0:
            continue
        _spread(blocks[t], mode, lam, hat, area[t], v)
    return gradient


@inline
def least_root(k0, k1, k2):
    """Least positive root of k0 + k1 x + k2 x², infinite where there is none: when a triangle of twice the area k0 loses it."""
    best = np.inf
    if abs(k2) < 1e-30 * max(abs(k1), 1e-300):
        return -k0 / k1 if k1 < 0.0 else best
    disc = k1 * k1 - 4 * k2 * k0
    if disc < 0.0:
        return best
    root = np.sqrt(disc)
    # The stable pair of roots.
    s = -0.5 * (k1 + (root if k1 >= 0 else -root))
    for k in range(2):
        x = s / k2 if k == 0 else (k0 / s if s != 0.0 else np.inf)
        if x > 0.0 and x < best:
            best = x
    return best


@kernel
def largest_step(uv, move, tri):
    """Largest step before some triangle loses its area: least positive root of its quadratic."""
    best = np.inf
    for t in range(len(tri)):
        a, b, c = tri[t, 0], tri[t, 1], tri[t, 2]
        ux, uy = uv[b, 0] - uv[a, 0], uv[b, 1] - uv[a, 1]
        vx, vy = uv[c, 0] - uv[a, 0], uv[c, 1] - uv[a, 1]
        px, py = move[b, 0] - move[a, 0], move[b, 1] - move[a, 1]
        qx, qy = move[c, 0] - move[a, 0], move[c, 1] - move[a, 1]
        k0 = ux * vy - uy * vx
        k1 = ux * qy + px * vy - uy * qx - py * vx
        best = min(best, least_root(k0, k1, px * qy - py * qx))
    return best


@kernel
def taken_back(gradient, steps, turns, shares):
    """The first loop of L-BFGS (Nocedal and Wright 2006, algorithm 7.4): a gradient (K,) less what the last steps (M, K) account
    for, by how the gradient turned with each (M, K), and how much of each that is (M,)."""
    way, along = gradient.copy(), np.empty(len(steps))
    for back in range(len(steps)):
        m = len(steps) - 1 - back
        along[m] = shares[m] * _product(steps[m], way)
        turned = turns[m]
        for k in range(len(way)):
            way[k] -= along[m] * turned[k]
    return way, along


@kernel
def put_forward(solved, steps, turns, shares, along):
    """The second loop: what was taken back as it should have been."""
    way = solved.copy()
    for m in range(len(steps)):
        step, more = steps[m], along[m] - shares[m] * _product(turns[m], way)
        for k in range(len(way)):
            way[k] += more * step[k]
    return way


@inline
def _product(a, b):
    """Two sums at a time; BLAS would wait for threads that others use."""
    one, two, half = 0.0, 0.0, len(a) // 2
    for k in range(half):
        one += a[k] * b[k]
        two += a[half + k] * b[half + k]
    if len(a) % 2:
        one += a[len(a) - 1] * b[len(a) - 1]
    return one + two

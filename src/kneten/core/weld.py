"""Which of many places are the same, to the bit."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, I32, U32, kernel


@kernel
def _welded(bits: U32, table: I32, mask: int, first: I32, which: I32) -> int:
    n = 0
    for i in range(bits.shape[0]):
        # Mixed as in MurmurHash3 (Appleby, public domain): neighbouring places differ in their last bits only.
        h = np.uint64(bits[i, 0]) * np.uint64(0x9E3779B97F4A7C15)
        h ^= (h >> np.uint64(32)) + np.uint64(bits[i, 1]) * np.uint64(0xC2B2AE3D27D4EB4F)
        h ^= (h >> np.uint64(29)) + np.uint64(bits[i, 2]) * np.uint64(0x165667B19E3779F9)
        h *= np.uint64(0xFF51AFD7ED558CCD)
        at = (h >> np.uint64(32)) & np.uint64(mask)
        while True:
            held = table[at]
            if held < 0:
                table[at] = n
                first[n] = i
                which[i] = n
                n += 1
                break
            j = first[held]
            if bits[j, 0] == bits[i, 0] and bits[j, 1] == bits[i, 1] and bits[j, 2] == bits[i, 2]:
                which[i] = held
                break
            at = (at + np.uint64(1)) & np.uint64(mask)
    return n


def welded(places: F32) -> tuple[I32, I32]:
    """Where each different place (n, 3) appears first, (k,) ascending, and which of these each is, (n,).

    -0 and 0 are the same. Linear in time and room, and off the interpreter's lock.
    """
    bits = (np.ascontiguousarray(places, np.float32) + np.float32(0.0)).view(np.uint32)
    n = len(bits)
    mask = (1 << max(int(np.ceil(np.log2(max(n, 1)))) + 1, 4)) - 1
    table = np.full(mask + 1, -1, np.int32)
    first = np.empty(n, np.int32)
    which = np.empty(n, np.int32)
    count = _welded(bits, table, mask, first, which)
    return first[:count].copy(), which

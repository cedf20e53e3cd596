"""Values evened over what is linked: the mean over each and its neighbours."""

from __future__ import annotations

import numpy as np
from scipy import sparse


def means_over(links: sparse.csr_array) -> sparse.csr_array:
    """(N, N) what takes values to their means over each and all it is linked to (N, N), by the weights of the links and 1 for itself."""
    both = (links + sparse.identity(links.shape[0], format="csr")).tocsr()
    return sparse.csr_array(sparse.diags_array(1.0 / np.asarray(both.sum(axis=1)).ravel()) @ both)

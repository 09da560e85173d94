"""Names for the array types that pass between modules."""

from typing import Any

import numpy as np
from numpy.typing import NDArray

Plane = NDArray[np.float32]
"""An image, (height, width), row 0 at the bottom of the FITS convention."""
Floats = NDArray[np.floating[Any]]
Ints = NDArray[np.integer[Any]]
Bools = NDArray[np.bool_]
Flags = NDArray[np.uint8]
"""A plane of pixel flags, one bit a cause."""

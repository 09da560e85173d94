"""The errors of the core. Every message is made for the observer: what, why, what to do."""


class BeaconError(Exception):
    """Anything that stops a piece of work for a reason the observer can act on."""


class UnreadableFileError(BeaconError):
    """A file that cannot be read as what it should be."""


class CatalogueError(BeaconError):
    """A star catalogue that is missing, unreadable or lacks what is needed."""


class NotPlacedError(BeaconError):
    """An exposure without an acceptable plate solution; says what was tried."""


class NotMeasurableError(BeaconError):
    """A set of exposures from which no light curve can be made."""

"""Lines: made, changed, read. Importing this package fills the registry of makers."""

from escalera.core.lines import makers as makers
from escalera.core.lines import tune_makers as tune_makers

"""Names for entries that have only a number or a hash: dictionaries, and the hunt for what none of them has.

`dictionary` is lists of paths, `dictionaries` those available, `unresolved` entries without names and the testing of paths against them,
`reading` and `mining` look for paths in what the game's files hold, `patterns` and `guessing` try what a person suspects,
`evidence` says how likely a find is an accident, `finds` keeps what was found.
"""

from volvex.names.dictionary import Dictionary
from volvex.names.dictionary_set import DictionarySet

__all__ = ["Dictionary", "DictionarySet"]

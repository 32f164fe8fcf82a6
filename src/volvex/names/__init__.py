"""Names for entries that have only a number or a hash: dictionaries, and the search for names that none of them has.

`dictionary` is a list of paths, `dictionary_set` all known ones, `unresolved` tests paths on the entries without names.
`scan` and `mine` find paths in the content of the game's files, `patterns` and `guess` try what a user suspects,
`evidence` computes how likely a find is an accident, `finds` stores what was found.
"""

from volvex.names.dictionary import Dictionary
from volvex.names.dictionary_set import DictionarySet

__all__ = ["Dictionary", "DictionarySet"]

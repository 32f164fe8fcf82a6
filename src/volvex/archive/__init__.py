"""Archives as folders: entries, paths that reach through archives, taking out and writing again.

An archive's directory is held as columns; an `Entry` is made when somebody asks for it. Names are what
the archive says, with forward slashes; nothing in them is trusted (see `names`).
"""

from volvex.archive.access.open import open_archive, open_source
from volvex.archive.access.paths import Found, Group, Walker
from volvex.archive.archive import Archive, Entry
from volvex.archive.layout_archive import LayoutArchive

__all__ = ["Archive", "Entry", "Found", "Group", "LayoutArchive", "Walker", "open_archive", "open_source"]

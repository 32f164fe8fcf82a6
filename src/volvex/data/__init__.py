"""The meaning of data files: values at places, changed so that every other byte stays as it was."""

from volvex.data.edit import Edited, Target, edit

__all__ = ["Edited", "Target", "edit"]

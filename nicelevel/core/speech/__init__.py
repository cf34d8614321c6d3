"""Speech evened out: who speaks when, in passages of one level each, and the gain that brings these together.

The method and what it was measured to do: docs/evening.md. What is spoken, over music too: docs/dialogue.md.
"""

from .dialogue import Dialogue, dialogue_of, spoken_blocks, spoken_lufs
from .evening import Amount, even_out
from .listening import Heard, listen_to

__all__ = ["Amount", "Dialogue", "Heard", "dialogue_of", "even_out", "listen_to", "spoken_blocks", "spoken_lufs"]

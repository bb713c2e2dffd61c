"""What the engine keeps.

Owns the transaction, the memory beside the store, counters, and the transitions of rows. May
import the commands and the rules. A new thing to remember goes into the record of its subject
(`workers`, `attempts`, `workflows`), never as another field of `Memory` or `Transaction`.
"""

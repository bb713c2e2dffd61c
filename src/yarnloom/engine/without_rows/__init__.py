"""Items of eaches and legs of relays that have no rows while all goes well.

Owns given, ended, folded, and given rows when anything is unusual. May import the parts and what
is before them; nothing else in the engine knows of such items, but through its functions. A new
reason to give an item rows goes where that reason happens, and calls `unfold` here.
"""

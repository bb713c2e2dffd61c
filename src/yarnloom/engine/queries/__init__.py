"""Questions about runs, answered from the store or in a transaction.

Owns the graph, views, exports, reasons, times. May import composition and what is before it;
service and tests call these functions. A new question about runs is a new file here; a new reason
of `why` goes into `explain` (of a run or part) or `obstacles` (of a ready step).
"""

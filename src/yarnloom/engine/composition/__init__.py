"""The rules of composition.

Owns what the end of a child means for its part, which part begins next, when a run has ended. May
import compact and what is before it; `Composition` is made of `Endings`, `Beginnings` and
`EachItems`, which share a `ComposedRun`. A new kind of part begins in `beginnings`, ends in
`endings`, and is a case in `composition`.
"""

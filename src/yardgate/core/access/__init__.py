"""Who may do what, and why: from a plan to what comes out.

`membership` (who counts as what) and `clash` (what several grants add up to) say what grants mean; `compile` makes them lists, and `storage` says which
list will stand in every place. `spec` explains one cell; `batch` works all of them out at once; neither knows the other, and tests hold them equal.
Above them: `ways` (over a share and a protocol), `outcome` (over all of them), `gets` (beside what is granted), `seeing`, `walk`.
"""

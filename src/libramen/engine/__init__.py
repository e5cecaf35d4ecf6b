"""One replay: (trace, service, plan, seed) -> `Run`, what was measured.

`kernel` and `plain` are the two data planes; `control` is the control plane, with `fleet`,
`scaling/` and `rollout/`. This file imports nothing, so that a study can read the fields of a rule
without loading the engine.
"""

"""The data plane in readable Python: the executable form of the model.

It is slow, and has no cleverness on purpose: every list is scanned, every event looks at everything. `kernel` must
agree with it on every request. Read `state`, then `replica`, `balancer` and `clients`, to learn what a replay means.
"""

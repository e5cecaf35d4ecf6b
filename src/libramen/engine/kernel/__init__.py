"""The compiled data plane. This file imports nothing; `docs/data-plane.md` explains all of it.

Lines that begin with > at the head of a file quote the sentences of `docs/model.md` that the file implements.

| file | what is in it |
|---|---|
| `layout` | the state: every array, record by record |
| `reach`, `parts` | how compiled functions reach into it, and the lean variant of all of them; how they are compiled |
| `settings` | what does not change during a replay: rows of `border.specs`, and what is made of them |
| `lists` | the linked lists of visits, and their verbs |
| `arrays`, `state` | `KernelState`, to which the control plane talks; make arrays, call `advance`, are copied |
| `server`, `side` | `KernelServer`, one service of one or two sides, each with rows and measures of its own |
| `comparable` | the state that decides the future, for replays to be compared |
| `advance` | the one compiled function: which event comes next |
| `balancer` | a visit arrives and is sent to a replica, held, or refused |
| `service` | slots, CPU turns, waits, the bank of lent CPU, death |
| `completions` | work and waits that are over, and which is next |
| `clients` | answers, failures, time-outs, repeated attempts |
| `callers`, `connections` | visits that call other services; pools of connections |
| `orders` | what the control plane orders: a replica to add, drain, withdraw or remove |
| `bins`, `counting` | what is counted of requests that have ended |
| `integrals`, `use` | integrals over time; when replicas are in use |
| `trees`, `heaps`, `uniforms` | winner trees, binary heaps, random numbers |
"""

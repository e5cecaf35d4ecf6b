"""The compiled data plane. This file imports nothing; `docs/data-plane.md` explains all of it.

| file | what is in it |
|---|---|
| `layout` | the state: every array, record by record |
| `state` | `KernelState`: what the control plane talks to; makes the arrays, grows them, calls `advance` |
| `advance` | the one compiled function: which event comes next |
| `balancer` | a request arrives and is sent to a replica, held, or refused |
| `service` | slots, CPU turns, waits, the bank of lent CPU, completions, death |
| `clients` | answers, failures, time-outs, repeated attempts |
| `orders` | what the control plane orders: a replica to add, drain, withdraw or remove |
| `measures` | integrals over time |
| `trees`, `heaps`, `uniforms` | winner trees, binary heaps, random numbers |
"""

"""The formats of traces: a file for each, which recognises itself and reads; `registry` lists them."""

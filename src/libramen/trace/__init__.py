"""Reading, checking and describing traces; estimating demand.

This file imports nothing: `libramen` itself is where the public names are.
"""

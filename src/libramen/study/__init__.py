"""What a user writes: service, sizes, tiers, plans, objectives; loading and checking the study file.

This file imports nothing: `libramen` itself is where the public names are.
"""

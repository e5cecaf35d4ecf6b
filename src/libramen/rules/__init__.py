"""What a study declares that decides later: scaling rules, rollouts. This file imports nothing."""

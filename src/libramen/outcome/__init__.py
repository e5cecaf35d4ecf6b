"""`replay()`, the public call: run + bill + objectives -> `Outcome`. This file imports nothing."""

"""How far an answer holds: backtest, fit, doubt."""

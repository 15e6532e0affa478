"""Controls, the solvers behind them, and the plan that evaluates them."""

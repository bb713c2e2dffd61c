"""How ready steps get to workers.

Owns assigning, orders to workers, places in pools, release; and what attempts use: effects, files.
May import the state and what is before it, and knows neither items without rows nor composition:
`assign_ready_steps` takes those as functions. A new message to workers goes into `worker_orders`,
a new setting of pools into `pool_settings`.
"""

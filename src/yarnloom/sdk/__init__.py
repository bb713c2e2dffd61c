"""What a loom's author uses: the loom, tasks, contexts, loops, hooks, files.

May import the plan and what is before it, and knows no service and no worker: an `AttemptLine` is
all that a context sees of them. A new method of `ctx` goes into `base_context`, or where it waits
into `step_context` and `async_step_context`.
"""

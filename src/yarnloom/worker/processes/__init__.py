"""The processes of a worker, from outside: started, forked, talked to, measured, guarded, reaped.

May import the channel and the child. A new thing that a worker asks of the system about a process
goes here.
"""

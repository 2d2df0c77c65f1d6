"""Compiled kernels of the motion, in files that each do one thing; `step` is what the rest of the program calls.

The model is data (what stands where is said in `layout`): no edit of a machine recompiles anything here.
Keep these files quiet: every change to one costs each user the recompilation of it and of those that call it.
"""

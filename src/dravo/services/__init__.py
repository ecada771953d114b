"""Use cases, one package for each stage of the pipeline: read a snapshot, plan with the core, apply in one
short write.
"""

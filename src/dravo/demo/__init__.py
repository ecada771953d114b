"""The demo: the Fernhollow scenario and the stand-ins for the systems around Dravo.

The stand-ins (`provider`, `application`, `wire`) import nothing of the service, so that they do not share
its mistakes.
"""

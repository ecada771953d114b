"""The command line: one module a noun; all but `serve`, `init` and `demo` talk to the service through the
client.
"""

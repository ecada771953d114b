"""The management API: everything that the console and the command line do, by HTTP."""

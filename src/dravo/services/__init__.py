"""The verbs of the job, one module each; every change is read, planned and applied here."""

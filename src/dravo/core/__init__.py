"""Pure computation: values in, values out; no storage, no network, no clock."""

"""The job's rules and computation: values in, values out. No files, sockets, clock, Django or hidden randomness."""

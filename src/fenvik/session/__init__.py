"""Work on real devices: found, waited for, settled, read, set. Core and link alone, for the worker and the command line alike."""

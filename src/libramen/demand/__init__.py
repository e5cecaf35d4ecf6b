"""The work in a log: what requests asked for, once what the fleet that served them did to them is taken out."""

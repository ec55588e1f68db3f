"""How the tables of a logbook come to be, and come from one version of this program to the next."""

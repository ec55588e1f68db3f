"""The first hour: a folder of what there is, made into an estate that can be judged."""

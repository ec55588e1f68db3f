"""The computation: facts, rules, judging and explaining. Knows no files, screens, networks or clock."""

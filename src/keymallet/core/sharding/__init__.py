"""Very many accounts, judged shard after shard: what each shard tells, and how it comes together."""

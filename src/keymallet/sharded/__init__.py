"""A snapshot in shards, judged shard after shard by as many processes as are asked for.

Each task opens one shard, and leaves what others need of it in a folder that all of them see.
"""

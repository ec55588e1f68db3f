"""What is said of each topic: sentences, a headline, an account's part in it, and how its tables read."""

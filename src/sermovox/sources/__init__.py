"""What each file of a production is made from, how it is encoded and what it is called: asked here by all others."""

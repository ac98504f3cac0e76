"""Exchange: a round goes out as one file and comes in again; the demo round."""

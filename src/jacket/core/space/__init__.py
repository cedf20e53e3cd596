"""Looking things up in space: rays, closest points, nearby points."""

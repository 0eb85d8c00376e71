"""Small random changes to the core, which its tests must notice."""

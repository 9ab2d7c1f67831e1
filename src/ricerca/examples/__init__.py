"""The demo: the made-up harbour of Marrowick, in several states of its code."""

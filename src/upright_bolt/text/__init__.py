"""Sentences for people, made from data. No other layer makes them."""

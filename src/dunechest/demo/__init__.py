"""Marram Point: a made-up sample world, and small stand-in applications that open its libraries."""

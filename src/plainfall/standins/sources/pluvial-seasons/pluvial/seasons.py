"""Seasons of rain."""


def season(month):
    return ("winter", "spring", "summer", "autumn")[month % 12 // 3]

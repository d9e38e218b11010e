"""The festival's website: a stand-in for any site that takes pictures from its visitors."""

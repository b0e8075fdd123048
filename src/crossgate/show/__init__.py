"""What a person sees: answers as lines, tables and pictures. Colour supports the meaning and never
carries it.
"""

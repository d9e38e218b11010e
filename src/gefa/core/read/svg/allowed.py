"""What an SVG file may hold that stands alone: these elements, attributes and properties. All that
draws is among them, and nothing that acts, loads or belongs to another language.

SVG 2, appendix F; Filter Effects 1; CSS Masking 1.
"""

from __future__ import annotations

_FILTERS = frozenset(
    {"feBlend", "feColorMatrix", "feComponentTransfer", "feComposite", "feConvolveMatrix",
     "feDiffuseLighting", "feDisplacementMap", "feDistantLight", "feDropShadow", "feFlood",
     "feFuncA", "feFuncB", "feFuncG", "feFuncR", "feGaussianBlur", "feMerge", "feMergeNode",
     "feMorphology", "feOffset", "fePointLight", "feSpecularLighting", "feSpotLight", "feTile",
     "feTurbulence"}
)  # fmt: skip
TEXT = frozenset({"text", "tspan"})
ELEMENTS = _FILTERS | TEXT | {
    "svg", "g", "defs", "symbol", "use", "path", "rect", "circle", "ellipse", "line", "polyline",
    "polygon", "image", "linearGradient", "radialGradient", "stop", "pattern", "clipPath", "mask",
    "marker", "filter",
}  # fmt: skip
ATTRIBUTES = frozenset(
    {"x", "y", "x1", "y1", "x2", "y2", "dx", "dy", "cx", "cy", "r", "rx", "ry", "fx", "fy", "fr",
     "width", "height", "d", "points", "transform", "viewBox", "preserveAspectRatio",
     "pathLength", "offset", "gradientUnits", "gradientTransform", "spreadMethod",
     "patternUnits", "patternContentUnits", "patternTransform", "clipPathUnits", "maskUnits",
     "maskContentUnits", "markerUnits", "markerWidth", "markerHeight", "refX", "refY",
     "orient", "rotate", "textLength", "lengthAdjust", "filterUnits", "primitiveUnits", "in",
     "in2", "result", "mode", "type", "values", "tableValues", "slope", "intercept",
     "amplitude", "exponent", "operator", "k1", "k2", "k3", "k4", "order", "kernelMatrix",
     "divisor", "bias", "targetX", "targetY", "edgeMode", "preserveAlpha", "surfaceScale",
     "diffuseConstant", "specularConstant", "specularExponent", "kernelUnitLength",
     "limitingConeAngle", "pointsAtX", "pointsAtY", "pointsAtZ", "azimuth", "elevation", "z",
     "scale", "xChannelSelector", "yChannelSelector", "stdDeviation", "radius",
     "baseFrequency", "numOctaves", "seed", "stitchTiles"}
)  # fmt: skip
PROPERTIES = frozenset(
    {"alignment-baseline", "baseline-shift", "clip-path", "clip-rule", "color",
     "color-interpolation", "color-interpolation-filters", "direction", "display",
     "dominant-baseline", "fill", "fill-opacity", "fill-rule", "filter", "flood-color",
     "flood-opacity", "font", "font-family", "font-size", "font-size-adjust", "font-stretch",
     "font-style", "font-variant", "font-weight", "image-rendering", "isolation",
     "letter-spacing", "lighting-color", "marker", "marker-end", "marker-mid", "marker-start",
     "mask", "mask-type", "mix-blend-mode", "opacity", "overflow", "paint-order",
     "shape-rendering", "stop-color", "stop-opacity", "stroke", "stroke-dasharray",
     "stroke-dashoffset", "stroke-linecap", "stroke-linejoin", "stroke-miterlimit",
     "stroke-opacity", "stroke-width", "text-anchor", "text-decoration", "text-rendering",
     "transform", "transform-box", "transform-origin", "unicode-bidi", "vector-effect",
     "visibility", "word-spacing", "writing-mode", "cx", "cy", "d", "height", "r", "rx", "ry",
     "width", "x", "y"}
)  # fmt: skip
_CSS_ONLY = frozenset(
    {"font", "marker", "isolation", "mix-blend-mode", "transform", "transform-box",
     "transform-origin", "mask-type", "cx", "cy", "d", "height", "r", "rx", "ry", "width", "x",
     "y"}
)  # fmt: skip
AS_ATTRIBUTES = PROPERTIES - _CSS_ONLY
"""properties that SVG 2 (section 6.6) also knows as attributes, with the same values"""
INITIAL = {
    "opacity": "1", "filter": "none", "mix-blend-mode": "normal", "display": "inline",
    "isolation": "auto", "mask": "none", "clip-path": "none",
}  # fmt: skip
"""initial values of properties that are not inherited, which need not be written"""

// Which rectangle of a picture a crop keeps: the same to the pixel as gefa.core.cut.crop.crop_round.
const between = (value, least, most) => Math.max(least, Math.min(most, value));

// Halves go to the even neighbour, as Python rounds; Math.round takes them up.
const rounded = (value) => {
  const below = Math.floor(value);
  const rest = value - below;
  return rest > 0.5 || (rest === 0.5 && below % 2 !== 0) ? below + 1 : below;
};

/**
 * The largest rectangle of a ratio, divided by the zoom, moved inside the picture.
 * @param {{width: number, height: number}} size of the picture, px
 * @param {number} ratio width ÷ height
 * @param {{x: number, y: number, zoom: number}} focus 0..1 each way, zoom at least 1
 */
export const cropRound = (size, ratio, focus) => {
  const widest = Math.min(size.width, size.height * ratio);
  const width = between(rounded(widest / focus.zoom), 1, size.width);
  const height = between(rounded(widest / ratio / focus.zoom), 1, size.height);
  return {
    x: between(rounded(focus.x * size.width - width / 2), 0, size.width - width),
    y: between(rounded(focus.y * size.height - height / 2), 0, size.height - height),
    width,
    height,
  };
};

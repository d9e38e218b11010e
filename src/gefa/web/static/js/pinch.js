// Two fingers on an element: how far they moved apart, as a factor of where they were.
export const onPinch = (element, pinched) => {
  const fingers = new Map();
  const put = (event) => fingers.set(event.pointerId, { x: event.clientX, y: event.clientY });
  const apart = () => {
    const [one, other] = [...fingers.values()];
    return Math.max(1, Math.hypot(one.x - other.x, one.y - other.y));
  };
  element.addEventListener("pointerdown", (event) => {
    if (event.pointerType === "touch") put(event);
  });
  element.addEventListener("pointermove", (event) => {
    if (!fingers.has(event.pointerId)) return;
    const before = fingers.size === 2 ? apart() : 0;
    put(event);
    if (before) pinched(apart() / before);
  });
  for (const end of ["pointerup", "pointercancel"])
    element.addEventListener(end, (event) => fingers.delete(event.pointerId));
  return () => fingers.size > 1;
};

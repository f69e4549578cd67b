// Outlines of ferries and quays, as SVG paths.
export const ferry = (length, beam) =>
  `M0 ${beam / 2}L${length * 0.2} 0H${length}V${beam}H${length * 0.2}Z`;

export const quay = (length) => `M0 0H${length}V4H0Z`;

export const area = (points) => {
  let sum = 0;
  for (let i = 0; i < points.length; i++) {
    const [x1, y1] = points[i];
    const [x2, y2] = points[(i + 1) % points.length];
    sum += x1 * y2 - x2 * y1;
  }
  return Math.abs(sum) / 2;
};

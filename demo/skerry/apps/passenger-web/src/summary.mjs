import { table } from "../../../libs/ui-kit/src/kit.mjs";

export const summary = (booking, rates) =>
  table([
    ["route", booking.route],
    ["adults", booking.adults],
    ["fare", `£${((rates[booking.route] ?? 0) * booking.adults) / 100}`],
  ]);

import { badge, boat } from "../../../libs/ui-kit/src/kit.mjs";
import { isBooking } from "../../../libs/wire-schema/gen/wire.mjs";
import rates from "../../../libs/fares/gen/rates.json";
import { summary } from "./summary.mjs";

export const page = (booking) => {
  if (!isBooking(booking)) return badge("This booking cannot be read");
  return boat("Kittiwake") + summary(booking, rates.summer);
};

import { badge, table } from "../../../libs/ui-kit/src/kit.mjs";
import { isSailing } from "../../../libs/wire-schema/gen/wire.mjs";

export const manifest = (sailings) =>
  table(sailings.filter(isSailing).map((s) => [s.route, `${s.hour}:00`, s.full ? "full" : "open"])) +
  badge(`${sailings.length} sailings`);

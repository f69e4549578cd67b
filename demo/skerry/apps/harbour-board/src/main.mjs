import { table } from "../../../libs/ui-kit/src/kit.mjs";
import { isSailing } from "../../../libs/wire-schema/gen/wire.mjs";
import ports from "../../../data/port-data/dist/ports.json";

export const board = (sailings) =>
  table(sailings.filter(isSailing).map((s) => [ports[s.route]?.title ?? s.route, `${s.hour}:00`]));

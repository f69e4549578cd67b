import { searchParams } from "sv-router";

// The state of a view is in its address.

export const param = (name: string, otherwise = ""): string => String(searchParams.get(name) ?? otherwise);

export const numberParam = (name: string, otherwise: number): number => {
  const n = Number(searchParams.get(name) ?? NaN);
  return Number.isFinite(n) ? n : otherwise;
};

/** Sets a parameter, or removes it if the value is empty or the default. */
export function setParam(name: string, value: string | number, otherwise: string | number = "") {
  if (value === "" || value === otherwise) searchParams.delete(name, undefined, { replace: true });
  else searchParams.set(name, value, { replace: true });
}

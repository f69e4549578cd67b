// Checks the service's API document with a public linter.
import { createConfig, lint } from "@redocly/openapi-core";

const file = new URL("../internal/service/api/openapi.json", import.meta.url).pathname;
const config = await createConfig({
  extends: ["recommended"],
  rules: {
    "info-license": "off", // the document is not published apart from the service
    "no-server-example.com": "off",
  },
});
const problems = await lint({ ref: file, config });
for (const p of problems) console.error(`${p.severity} ${p.ruleId}: ${p.message} at ${p.location[0]?.pointer}`);
if (problems.length > 0) process.exit(1);

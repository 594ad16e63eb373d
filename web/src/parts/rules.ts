import type { Rule } from "../api";

/** A table's own rule, the first that names it alone; one that says nothing where there is none. */
export const ownRule = (rules: Rule[], table: string): Rule =>
  rules.find((r) => r.tables === table) ?? { tables: table };

/**
 * The rules with a table's own one replaced where it stands, as a later rule wins over an
 * earlier one. One that says nothing any more is removed; a new one comes last.
 */
export function withRule(rules: Rule[], mine: Rule): Rule[] {
  const at = rules.findIndex((r) => r.tables === mine.tables);
  const says = Object.keys(mine).length > 1;
  if (at < 0) return says ? [...rules, mine] : rules;
  return rules.flatMap((r, i) => (i === at ? (says ? [mine] : []) : [r]));
}

import type { Crossing } from "../../api";
import { Entries } from "../../parts/Entries";

/** The live log of one crossing. */
export const Log = ({ crossing }: { crossing: Crossing }) => (
  <>
    <title>{`${crossing.name}: log`}</title>
    <Entries crossing={crossing.name} />
  </>
);

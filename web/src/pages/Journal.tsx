import { Entries } from "../parts/Entries";

export default function Journal() {
  return (
    <>
      <title>Journal, Dusty Ferry</title>
      <h1 className="text-xl font-semibold">Journal</h1>
      <p className="text-sm text-soft">
        Everything that was done, by whom and with what result. Entries are only ever added.
      </p>
      <Entries />
    </>
  );
}

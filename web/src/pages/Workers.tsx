import { duration } from "../format";
import { useLive } from "../live";
import { Nothing, Said } from "../parts/Said";
import { Moment, useNow } from "../time";

export default function Workers() {
  const workers = useLive("/api/workers");
  const now = useNow(1000);
  return (
    <>
      <title>Workers, Dusty Ferry</title>
      <h1 className="text-xl font-semibold">Workers</h1>
      <p className="max-w-prose text-sm text-soft">
        Processes that share the work. One that falls silent for 8 seconds loses what it held: chunks, capture
        and tasks go to another within seconds. More machines join with{" "}
        <code className="num">dustyferry worker --control-url …</code>
      </p>
      <Said of={workers} reading="Reading the workers">
        {(list) =>
          list.length === 0 ? (
            <Nothing>No worker was seen in the last ten minutes.</Nothing>
          ) : (
            <div
              tabIndex={0}
              role="region"
              aria-label="Workers"
              className="sheet mt-3 overflow-x-auto px-3 py-1"
            >
              <table className="w-full text-sm">
                <thead>
                  <tr className="text-left text-xs text-soft">
                    <th className="py-1.5 pr-4 font-medium">Worker</th>
                    <th className="py-1.5 pr-4 font-medium">State</th>
                    <th className="py-1.5 pr-4 text-right font-medium">Lanes</th>
                    <th className="py-1.5 pr-4 text-right font-medium">Captures</th>
                    <th className="py-1.5 pr-4 font-medium">Labels</th>
                    <th className="py-1.5 pr-4 font-medium">Machine</th>
                    <th className="py-1.5 pr-4 font-medium">Version</th>
                    <th className="py-1.5 font-medium">Since</th>
                  </tr>
                </thead>
                <tbody>
                  {list.map((w) => {
                    const silent = (now - Date.parse(w.seen_at)) / 1000;
                    return (
                      <tr key={w.name} className="border-t border-line">
                        <td className="num py-1.5 pr-4 break-all">{w.name}</td>
                        <td
                          className={`py-1.5 pr-4 ${silent < 10 ? "text-reed" : "font-semibold text-brick"}`}
                        >
                          {silent < 10 ? "at work" : `silent for ${duration(Math.floor(silent))}`}
                        </td>
                        <td className="num py-1.5 pr-4 text-right">{w.lanes}</td>
                        <td className="num py-1.5 pr-4 text-right">{w.streams}</td>
                        <td className="py-1.5 pr-4">{w.labels.join(", ")}</td>
                        <td className="py-1.5 pr-4">
                          {w.host}, process {w.pid}
                        </td>
                        <td className="num py-1.5 pr-4">{w.version}</td>
                        <td className="py-1.5">
                          <Moment at={w.started_at} relative />
                        </td>
                      </tr>
                    );
                  })}
                </tbody>
              </table>
            </div>
          )
        }
      </Said>
    </>
  );
}

import { useCallback } from "react";
import { type Crossing } from "../../api";
import { bytes, duration, perSecond, each } from "../../format";
import { useLive } from "../../live";
import { useParam } from "../../params";
import { Chart } from "../../parts/Chart";
import { Trouble } from "../../parts/Said";
import { Moment } from "../../time";

const windows = [
  ["5", "last 5 minutes"],
  ["15", "last 15 minutes"],
  ["60", "last hour"],
  ["360", "last 6 hours"],
  ["1440", "last day"],
  ["10080", "last week"],
  ["0", "the whole run"],
] as const;

const seconds = (v: number) => duration(v);
const rows = (v: number) => perSecond(v, "rows");
const speed = (v: number) => `${bytes(v)}/s`;

export function Charts({ crossing: c }: { crossing: Crossing }) {
  const [minutes, setMinutes] = useParam("window", "15");
  const [zoom, setZoom] = useParam("zoom");
  const [zoomFrom, zoomTo] = zoom.split("~");
  const history = useLive(
    "/api/crossings/{name}/history",
    {
      path: { name: c.name },
      query: zoomFrom && zoomTo ? { from: zoomFrom, to: zoomTo, points: 300 } : { minutes, points: 240 },
    },
    { keep: true },
  );
  const onZoom = useCallback(
    (from: number, to: number) => {
      setZoom(`${new Date(from * 1000).toISOString()}~${new Date(to * 1000).toISOString()}`);
    },
    [setZoom],
  );
  const h = history.data;
  if (!h)
    return history.error ? (
      <Trouble>
        The charts cannot be read: {history.error.message}{" "}
        {zoom !== "" && (
          <button
            type="button"
            className="link underline"
            onClick={() => {
              setZoom("");
            }}
          >
            Back to the window
          </button>
        )}
      </Trouble>
    ) : (
      <p className="mt-2 text-sm text-soft">Reading the history …</p>
    );
  const common = { times: h.at, from: Date.parse(h.from) / 1000, to: Date.parse(h.to) / 1000, onZoom };
  return (
    <section aria-label="Over time" className="mt-2">
      <div className="grid gap-2 md:grid-cols-2 xl:grid-cols-4">
        <Chart
          title="Rows landed"
          lines={[{ name: "rows", tone: "honey", values: h.rows, show: rows, axis: each }]}
          {...common}
        />
        <Chart
          title="Bytes in and out"
          lines={[
            { name: "read", tone: "timber", values: h.bytes_in, show: speed, axis: speed, dash: true },
            { name: "written", tone: "honey", values: h.bytes_out, show: speed, axis: speed },
          ]}
          {...common}
        />
        <Chart
          title="Lag"
          lines={[
            { name: "time", tone: "reed", values: h.lag_seconds, show: seconds, axis: seconds },
            {
              name: "log",
              tone: "timber",
              values: h.lag_bytes,
              show: bytes,
              axis: bytes,
              right: true,
              dash: true,
            },
          ]}
          {...common}
        />
        <Chart
          title="Changes applied"
          lines={[
            { name: "ins", tone: "reed", values: h.inserts, show: each, axis: each },
            { name: "upd", tone: "honey", values: h.updates, show: each, axis: each },
            { name: "del", tone: "brick", values: h.deletes, show: each, axis: each, dash: true },
          ]}
          {...common}
        />
      </div>
      <p className="mt-1 flex flex-wrap items-center gap-x-3 text-xs text-soft">
        <label>
          Window{" "}
          <select
            aria-label="Window of the charts"
            value={zoom === "" ? minutes : "zoom"}
            onChange={(e) => {
              setZoom("");
              setMinutes(e.target.value);
            }}
            className="rounded-sm border border-line bg-paper px-1 text-ink"
          >
            {zoom !== "" && <option value="zoom">chosen by hand</option>}
            {windows.map(([v, text]) => (
              <option key={v} value={v}>
                {text}
              </option>
            ))}
          </select>
        </label>
        <span>
          <Moment at={h.from} /> to <Moment at={h.to} />
        </span>
        {zoom !== "" ? (
          <button
            type="button"
            className="link underline"
            onClick={() => {
              setZoom("");
            }}
          >
            Back to the window
          </button>
        ) : (
          <span>Drag over a chart to look closer.</span>
        )}
      </p>
    </section>
  );
}

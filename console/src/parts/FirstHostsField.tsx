/** Whether hosts get something all at once, or some of them first. */
import type { FirstHosts } from "../api/plan";
import { FIELD } from "../design/fields";

const WELL_FOR = [
  { seconds: 60, says: "1 minute" },
  { seconds: 300, says: "5 minutes" },
  { seconds: 3600, says: "1 hour" },
  { seconds: 86_400, says: "1 day" },
];

interface FirstHostsFieldProps {
  /** The names of all of them. */
  hosts: string[];
  first: FirstHosts | null;
  onChange: (first: FirstHosts | null) => void;
  /** What happens if one of the first is not well. */
  back: string;
}

/** Whether all hosts get the change at once, or some first. */
export function FirstHostsField({ hosts, first, onChange, back }: FirstHostsFieldProps) {
  const begin = () => onChange({ hosts: hosts.length > 4 ? "5%" : `agent.name = "${hosts[0] ?? ""}"`, well_for_s: 300 });
  return (
    <fieldset className="flex flex-wrap items-center gap-x-5 gap-y-1 text-sm">
      <legend className="pb-1 font-semibold">When hosts get it</legend>
      <label className="flex items-center gap-2">
        <input type="radio" name="stages" checked={first === null} onChange={() => onChange(null)} /> all at once
      </label>
      <label className="flex items-center gap-2">
        <input type="radio" name="stages" checked={first !== null} onChange={begin} /> some of them first
      </label>
      {first !== null && (
        <span className="flex basis-full flex-wrap items-center gap-2">
          first on
          <input aria-label="Which hosts are first" title="a share, as in 5%, or a condition on their facts" required value={first.hosts} onChange={(e) => onChange({ ...first, hosts: e.target.value })} spellCheck={false} className={`${FIELD} w-72 font-mono text-xs`} />
          then on all, once they were well for
          <select aria-label="How long they have to be well" value={first.well_for_s} onChange={(e) => onChange({ ...first, well_for_s: Number(e.target.value) })} className={FIELD}>
            {WELL_FOR.map((w) => (
              <option key={w.seconds} value={w.seconds}>
                {w.says}
              </option>
            ))}
          </select>
          <span className="text-soft">{back}</span>
        </span>
      )}
    </fieldset>
  );
}

/** By what routes are grouped: the team, or a tag; nothing to choose, if the plan has neither. */
import { FIELD } from "../design/fields";

export function GroupBy({ label, ways, by, choose }: { label: string; ways: string[]; by: string | null; choose: (by: string) => void }) {
  if (ways.length === 0) return null;
  return (
    <label className="flex items-center gap-1.5 text-sm text-soft">
      {label}
      <select value={ways.includes(by ?? "") ? (by ?? "") : ""} onChange={(e) => choose(e.target.value)} className={FIELD}>
        <option value="">nothing</option>
        {ways.map((way) => (
          <option key={way} value={way}>
            the {way}
          </option>
        ))}
      </select>
    </label>
  );
}

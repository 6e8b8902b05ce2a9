// Our few controls over Radix primitives.
import { RadioGroup } from "radix-ui";
import { useState, type ButtonHTMLAttributes, type ReactNode } from "react";

export function Button({
  strong,
  className = "",
  ...rest
}: ButtonHTMLAttributes<HTMLButtonElement> & { strong?: boolean }) {
  const look = strong ? "bg-ink text-leaf" : "border border-faint/60 bg-leaf hover:bg-white";
  return (
    <button
      type="button"
      {...rest}
      className={`inline-flex items-center gap-1.5 px-2.5 py-1 disabled:opacity-45 ${look} ${className}`}
    />
  );
}

export interface Choice {
  value: string;
  title: string;
  formula?: string;
  note?: string;
}

/** One of several, each said in words. */
export function Choices(props: { label: string; value: string; choices: Choice[]; onChange: (value: string) => void }) {
  return (
    <RadioGroup.Root
      aria-label={props.label}
      value={props.value}
      onValueChange={props.onChange}
      className="flex flex-col"
    >
      {props.choices.map((c) => (
        <RadioGroup.Item
          key={c.value}
          value={c.value}
          data-choice={c.value}
          className="group grid grid-cols-[14px_1fr] gap-x-2 px-1 py-1 text-left data-[state=checked]:bg-leaf"
        >
          <span className="mt-1.5 h-2.5 w-2.5 border border-ink group-data-[state=checked]:bg-ink" />
          <span>
            <span className="group-data-[state=checked]:font-semibold">{c.title}</span>
            {c.formula && <span className="text-faint"> · {c.formula}</span>}
            {c.note && <span className="block text-[13px] leading-tight text-faint">{c.note}</span>}
          </span>
        </RadioGroup.Item>
      ))}
    </RadioGroup.Root>
  );
}

/** A thin line that fills, with the work's name and the time left. */
export function Progress(props: { name: string; share: number; left?: number | null; action?: ReactNode }) {
  const percent = Math.round(props.share * 100);
  return (
    <div role="progressbar" aria-label={props.name} aria-valuenow={percent} aria-valuemin={0} aria-valuemax={100}>
      <div className="flex items-baseline justify-between gap-3">
        <span>{props.name}</span>
        <span className="num text-faint">
          {percent} %{props.left != null && props.left >= 1 ? `, ${Math.ceil(props.left)} s left` : ""}
        </span>
        {props.action}
      </div>
      <div className="mt-1 h-1.5 bg-rule">
        <div className="h-full bg-ink" style={{ width: `${percent}%` }} />
      </div>
    </div>
  );
}

/** A slider that tells its value while it moves and changes the plate when it is let go. */
export function Slide({
  name,
  unit,
  none,
  value,
  least = 0,
  most,
  change,
}: {
  name: string;
  unit: string;
  none?: string;
  value: number;
  least?: number;
  most: number;
  change: (value: number) => void;
}) {
  const [moving, setMoving] = useState<number | null>(null);
  const done = () => {
    if (moving != null && moving !== value) change(moving);
    setMoving(null);
  };
  return (
    <label className="grid grid-cols-[1fr_auto] gap-x-2">
      {name}
      <span className="num">{none && (moving ?? value) === 0 ? none : `${moving ?? value} ${unit}`}</span>
      <input
        className="col-span-2 accent-ink"
        type="range"
        min={least}
        max={most}
        value={moving ?? value}
        aria-label={name}
        onChange={(e) => setMoving(Number(e.target.value))}
        onPointerUp={done}
        onKeyUp={done}
        onBlur={done}
      />
    </label>
  );
}

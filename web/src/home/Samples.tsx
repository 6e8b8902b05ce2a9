// The sample sets: what each shows, opened anew by a click.
import { useQuery } from "@tanstack/react-query";
import { api } from "../api/client";
import { tellError } from "../ui/Notices";
import { go } from "../ui/path";
import { plural } from "../ui/words";

export function Samples() {
  const samples = useQuery({ queryKey: ["samples"], queryFn: api.samples, staleTime: Infinity });
  const open = (name: string) =>
    api
      .sample(name)
      .then(({ id }) => go(`/set/${id}`))
      .catch(tellError);
  return (
    <ul className="mt-2 grid grid-cols-[repeat(auto-fill,minmax(260px,1fr))] gap-x-6 gap-y-3">
      {samples.data?.map((s) => (
        <li key={s.name}>
          <button
            className="group w-full border-l-4 border-rule py-0.5 pl-3 text-left hover:border-ink"
            onClick={() => void open(s.name)}
          >
            <span className="font-semibold group-hover:underline">{s.title}</span>,{" "}
            {s.clip ? "a clip" : plural(s.frames, "frame")}
            <span className="block text-[13px] leading-tight text-faint">{s.says}</span>
          </button>
        </li>
      ))}
    </ul>
  );
}

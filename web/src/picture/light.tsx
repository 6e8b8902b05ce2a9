// The inspection light: filters over the picture that show what hides in it. They change the view alone, never a pixel.

/** Names of the lights in the order of their key, with what each is for. */
export const lights = [
  ["plain", "Light: as it is"],
  ["shadows", "Light: shadows lifted"],
  ["local", "Light: tone flattened, local contrast strong"],
  ["grain", "Light: grain and fine detail only"],
] as const;

export type Light = (typeof lights)[number][0];

export const next = (light: Light): Light =>
  lights[(lights.findIndex(([name]) => name === light) + 1) % lights.length]?.[0] ?? "plain";

/** What the light is as a CSS filter. */
export const filterOf = (light: Light) => (light === "plain" ? undefined : `url(#light-${light})`);

/** The filters themselves. What differs from its surroundings is enlarged around middle grey. */
export function LightFilters() {
  return (
    <svg width={0} height={0} className="absolute" aria-hidden>
      <filter id="light-shadows" colorInterpolationFilters="sRGB">
        <feComponentTransfer>
          {[0, 1, 2].map((c) => {
            const Channel = ["feFuncR", "feFuncG", "feFuncB"][c] as "feFuncR";
            return <Channel key={c} type="gamma" exponent={0.45} amplitude={1} offset={0} />;
          })}
        </feComponentTransfer>
      </filter>
      <Around id="light-local" blur={30} gain={2.2} />
      <Around id="light-grain" blur={1.6} gain={7} />
    </svg>
  );
}

function Around({ id, blur, gain }: { id: string; blur: number; gain: number }) {
  // Half of the picture and half of its surroundings' opposite are middle grey where both are the same, and stay opaque.
  const opposite = "-1 0 0 0 1  0 -1 0 0 1  0 0 -1 0 1  0 0 0 0 1";
  const line = { type: "linear" as const, slope: 2 * gain, intercept: 0.5 - gain };
  return (
    <filter id={id} colorInterpolationFilters="sRGB" x="0" y="0" width="100%" height="100%">
      <feGaussianBlur in="SourceGraphic" stdDeviation={blur} result="around" />
      <feColorMatrix in="around" type="matrix" values={opposite} result="opposite" />
      <feComposite
        in="SourceGraphic"
        in2="opposite"
        operator="arithmetic"
        k1={0}
        k2={0.5}
        k3={0.5}
        k4={0}
        result="off"
      />
      <feComponentTransfer in="off">
        <feFuncR {...line} />
        <feFuncG {...line} />
        <feFuncB {...line} />
      </feComponentTransfer>
    </filter>
  );
}

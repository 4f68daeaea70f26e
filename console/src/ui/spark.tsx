import { useTheme } from "styled-components";

/** A strip of bars, one a step; read as a whole by those who cannot see it. */
export function Spark(props: {
  values: number[];
  bad?: number[];
  /** What a full bar is at least; 1 for counts. */
  least?: number;
  width?: number;
  height?: number;
  label: string;
}) {
  const { values, bad, least = 1, width = 96, height = 18 } = props;
  const theme = useTheme();
  const most = Math.max(least || Number.MIN_VALUE, ...values);
  const each = width / Math.max(values.length, 1);
  return (
    <svg
      width={width}
      height={height}
      viewBox={`0 0 ${width} ${height}`}
      preserveAspectRatio="none"
      role="img"
      aria-label={props.label}
      style={{ verticalAlign: "middle", maxWidth: "100%" }}
    >
      {values.map((value, n) => {
        const tall = value > 0 ? Math.max((value / most) * height, 1) : 0;
        const wrong = Math.min(bad?.[n] ?? 0, value);
        const red = wrong > 0 ? Math.max((wrong / most) * height, 1.5) : 0;
        return (
          <g key={n}>
            <rect
              x={n * each}
              y={height - tall}
              width={Math.max(each - 1, 0.5)}
              height={tall}
              fill={theme.severity.info}
            />
            {red > 0 && (
              <rect
                x={n * each}
                y={height - red}
                width={Math.max(each - 1, 0.5)}
                height={red}
                fill={theme.severity.error}
              />
            )}
          </g>
        );
      })}
    </svg>
  );
}

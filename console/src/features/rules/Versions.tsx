import { useQuery } from "@tanstack/react-query";
import styled from "styled-components";
import { api } from "../../api/client";
import { moment } from "../../api/time";
import { space, type } from "../../app/tokens";
import { useZone } from "../../app/zone";
import { Mono, Muted, Problem } from "../../ui/controls";
import { changed } from "./model";

const List = styled.ol`
  list-style: none;
  margin: 0;
  padding: 0;
  li {
    margin-bottom: ${space.m};
  }
  pre {
    margin: ${space.xs} 0 0;
    font-size: ${type.small};
    white-space: pre-wrap;
    overflow-wrap: anywhere;
  }
  del {
    color: ${(p) => p.theme.muted};
  }
  ins {
    text-decoration: none;
    color: ${(p) => p.theme.accent};
  }
`;

/** Every version of a rule, the latest first: who changed which lines. */
export function Versions({ id }: { id: number }) {
  const { zone } = useZone();
  const versions = useQuery({
    queryKey: ["rule-versions", id],
    queryFn: ({ signal }) => api.ruleVersions(id, signal),
  });
  const all = versions.data ?? [];
  return (
    <section aria-label="Versions">
      <h2>Versions</h2>
      {versions.error && <Problem>{versions.error.message}</Problem>}
      <List>
        {all.map((version, n) => {
          const lines = changed(version.document, all[n + 1]?.document);
          const isFirst = n + 1 === all.length;
          return (
            <li key={version.revision}>
              {version.revision} · {version.by}{" "}
              <Muted>{version.at ? moment(version.at, zone) : "at a time that was not recorded"}</Muted>
              {isFirst ? (
                <Muted> · the first</Muted>
              ) : (
                <pre>
                  <Mono>
                    {lines.gone.map((line) => (
                      <del key={line}>
                        {line}
                        {"\n"}
                      </del>
                    ))}
                    {lines.come.map((line) => (
                      <ins key={line}>
                        {line}
                        {"\n"}
                      </ins>
                    ))}
                  </Mono>
                </pre>
              )}
            </li>
          );
        })}
      </List>
    </section>
  );
}

import { useState } from "react";
import styled from "styled-components";
import { api } from "../../api/client";
import type { Me } from "../../api/types";
import { space, type } from "../../app/tokens";
import { Button, Field, Muted, Problem } from "../../ui/controls";

const Place = styled.main`
  min-height: 100%;
  display: grid;
  place-items: center;
  padding: ${space.l};
`;

const Form = styled.form`
  display: grid;
  gap: ${space.l};
  width: min(320px, 100%);
  h1 {
    margin: 0;
    font-size: ${type.head};
  }
`;

/** The way in. */
export function SignIn({ onSignedIn }: { onSignedIn: (me: Me) => void }) {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [problem, setProblem] = useState<string>();
  const [busy, setBusy] = useState(false);
  const submit = async (e: React.FormEvent) => {
    e.preventDefault();
    setBusy(true);
    setProblem(undefined);
    try {
      onSignedIn(await api.login(name, password));
    } catch (e) {
      setProblem((e as Error).message);
      setBusy(false);
    }
  };
  return (
    <Place>
      <Form onSubmit={submit}>
        <h1>Calvex</h1>
        <Field label="Name" name="name" value={name} onChange={setName} autoFocus />
        <Field label="Password" name="password" kind="password" value={password} onChange={setPassword} />
        {problem && <Problem>{problem}</Problem>}
        <Button type="submit" $chief isDisabled={busy}>
          Sign in
        </Button>
        <Muted>The first administrator is called admin; the password was set or printed at the first start.</Muted>
      </Form>
    </Place>
  );
}

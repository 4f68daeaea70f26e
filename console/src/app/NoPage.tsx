import { Link, useLocation } from "react-router";
import { Page } from "../ui/page";

/** An address without a page. */
export function NoPage() {
  const { pathname } = useLocation();
  return (
    <Page>
      <h1>There is no page {pathname}</h1>
      <p>
        <Link to="/now" style={{ color: "inherit" }}>
          Now
        </Link>{" "}
        shows how things stand; Ctrl K goes anywhere.
      </p>
    </Page>
  );
}

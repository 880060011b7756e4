import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import LinearProgress from "@mui/material/LinearProgress";
import MenuItem from "@mui/material/MenuItem";
import Paper from "@mui/material/Paper";
import Table from "@mui/material/Table";
import TableBody from "@mui/material/TableBody";
import TableCell from "@mui/material/TableCell";
import TableHead from "@mui/material/TableHead";
import TableRow from "@mui/material/TableRow";
import TextField from "@mui/material/TextField";
import Typography from "@mui/material/Typography";
import { useState } from "react";
import {
  type Account,
  type NewAccount,
  type PersonRole,
  addAccount,
  changeAccount,
  makeKey,
} from "../api/client";
import { useAccounts, useChangeAccounts, useMe } from "../api/queries";
import { CommandBlock } from "../parts/CommandBlock";
import { ErrorNotice } from "../parts/ErrorNotice";

const roles: [PersonRole, string][] = [
  ["reader", "Reader: looks"],
  ["technician", "Technician: changes cases"],
  ["lead", "Lead: makes accounts, deletes cases"],
];

/** The people of the bench, for a lead: who there is, and what each may. */
export function PeopleTable() {
  const accounts = useAccounts();
  const me = useMe().data;
  const [made, setMade] = useState<NewAccount | null>(null);
  const change = useChangeAccounts((a: Account) =>
    changeAccount(a.id, { role: a.role, disabled: a.disabled }),
  );
  const key = useChangeAccounts(makeKey);
  return (
    <Paper component="section" aria-label="People" sx={{ p: 2 }}>
      <Typography variant="h3" component="h2" sx={{ mb: 0.5 }}>
        People
      </Typography>
      {accounts.isPending && <LinearProgress aria-label="Loading the people" />}
      {accounts.isError && <ErrorNotice error={accounts.error} retry={() => void accounts.refetch()} />}
      {accounts.data && (
        <Table size="small" aria-label="People">
          <TableHead>
            <TableRow>
              <TableCell>Name</TableCell>
              <TableCell>Role</TableCell>
              <TableCell>Comes in</TableCell>
              <TableCell />
            </TableRow>
          </TableHead>
          <TableBody>
            {accounts.data.map((a) => (
              <TableRow key={a.id} sx={{ "& > td": { verticalAlign: "middle !important" } }}>
                <TableCell sx={{ color: a.disabled ? "text.secondary" : undefined }}>
                  {a.name}
                  {a.name === me?.name && " (you)"}
                </TableCell>
                <TableCell>
                  <TextField
                    select
                    variant="standard"
                    value={a.role}
                    onChange={(e) => change.mutate({ ...a, role: e.target.value as PersonRole })}
                    slotProps={{ htmlInput: { "aria-label": `Role of ${a.name}` } }}
                    sx={{ minWidth: 110 }}
                  >
                    {roles.map(([role]) => (
                      <MenuItem key={role} value={role}>
                        {role}
                      </MenuItem>
                    ))}
                  </TextField>
                </TableCell>
                <TableCell>
                  {a.disabled ? "not at all" : a.hasPassword ? "by password" : "by a key"}
                </TableCell>
                <TableCell align="right" sx={{ whiteSpace: "nowrap" }}>
                  <Button
                    disabled={a.disabled}
                    onClick={() => key.mutate(a.id, { onSuccess: setMade })}
                    aria-label={`New key for ${a.name}`}
                  >
                    New key
                  </Button>
                  <Button
                    onClick={() => change.mutate({ ...a, disabled: !a.disabled })}
                    aria-label={`${a.disabled ? "Enable" : "Disable"} ${a.name}`}
                  >
                    {a.disabled ? "Enable" : "Disable"}
                  </Button>
                </TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      )}
      {change.isError && <ErrorNotice error={change.error} />}
      {key.isError && <ErrorNotice error={key.error} />}
      {made && <Key made={made} />}
      <Add onMade={setMade} />
    </Paper>
  );
}

/** The address that lets a person in, to be handed over. */
function Key({ made }: { made: NewAccount }) {
  return (
    <Box sx={{ mt: 1.25 }} role="status">
      <CommandBlock
        title={`For ${made.name}: good once, for three days`}
        commands={`${location.origin}/#key=${made.key}`}
      />
    </Box>
  );
}

function Add({ onMade }: { onMade: (made: NewAccount) => void }) {
  const [name, setName] = useState("");
  const [role, setRole] = useState<PersonRole>("technician");
  const add = useChangeAccounts(addAccount);
  return (
    <Box
      component="form"
      sx={{ mt: 1.5, display: "flex", gap: 1, flexWrap: "wrap" }}
      onSubmit={(e) => {
        e.preventDefault();
        add.mutate(
          { name, role },
          {
            onSuccess: (made) => {
              setName("");
              onMade(made);
            },
          },
        );
      }}
    >
      <TextField
        label="Name of a new person"
        value={name}
        onChange={(e) => setName(e.target.value)}
        sx={{ width: 190 }}
        slotProps={{ htmlInput: { maxLength: 80 } }}
      />
      <TextField
        select
        label="Role"
        value={role}
        onChange={(e) => setRole(e.target.value as PersonRole)}
        sx={{ width: 250 }}
      >
        {roles.map(([value, words]) => (
          <MenuItem key={value} value={value}>
            {words}
          </MenuItem>
        ))}
      </TextField>
      <Button type="submit" variant="contained" disabled={add.isPending || name.trim() === ""}>
        Make the account
      </Button>
      {add.isError && (
        <Box sx={{ width: "100%" }}>
          <ErrorNotice error={add.error} />
        </Box>
      )}
    </Box>
  );
}

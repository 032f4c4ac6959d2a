"""What a plan declares of variables holds for every container, and for tables that are joined or come before."""

from __future__ import annotations

import unittest
from typing import Any

import pandas as pd
import pyarrow as pa
import pyarrow.parquet as pq

import facturum as fa
from tests.support import Folder, command

CODED = {"q": [1, 98, 3, 99, 5, 2], "w": ["a", "b", "dk", "a", "b", "b"], "y": [1.0, 2.5, 3.0, 4.5, 5.0, 6.0]}


class Missing(Folder):
    def containers(self, table: dict[str, list[Any]]) -> dict[str, Any]:
        """Return the same table in every kind of container."""
        arrow = pa.table(table)
        pq.write_table(arrow, self.folder / "t.parquet")
        pd.DataFrame(table).to_csv(self.folder / "t.csv", index=False)
        return {
            "dict": table, "arrow": arrow, "pandas": pd.DataFrame(table), "parquet": self.folder / "t.parquet",
            "csv": self.folder / "t.csv", "categorical": pd.DataFrame(table).astype({"w": "category"}),
        }  # fmt: skip

    def test_missing_values_hold_for_every_container(self) -> None:
        whole = {"missing_values": ["", 98, "99", "dk"]}
        own = {"q": {"missing": [98, 99]}, "w": {"missing": ["dk"]}}
        for options in ({"data": whole}, {"variables": own}):
            plan = fa.Plan("y", {"q": "q", "w": "w", "no": "is_missing(impute(q, value=0))"}, **options)
            found = {}
            for name, table in self.containers(CODED).items():
                made = plan.build(table)
                self.assertEqual(made.rows.kept.tolist(), [1, 5, 6], (name, options))
                self.assertEqual(made.names, ["intercept", "q", "w_b", "no"])
                self.assertTrue(made.verify(table).ok, name)
                streamed = plan.build_into(self.folder / "s", table, replace=True)
                self.assertEqual(streamed.X.tobytes(), made.X.tobytes())
                self.assertTrue(streamed.verify(table).ok)
                found[name] = (made.X.tobytes(), str(made.plan))
            self.assertEqual(len(set(found.values())), 1)
        self.assertEqual(fa.Plan("y", {"q": "q"}).build(CODED).X[:, 1].tolist(), [1, 98, 3, 99, 5, 2])

    def test_history_series_and_future_values_are_declared_too(self) -> None:
        data: dict[str, Any] = {"time": "t", "every": "year"}
        variables = {"x": {"missing": [-9]}, "d": {"kind": "time", "pattern": "%d.%m.%Y"}}
        series = {
            "s": {"time": "d", "every": "year", "take": {"v": {"how": "mean"}}, "variables": {"v": {"missing": [-1]}}}
        }
        plan = fa.Plan("y", {"x": "lag(x, 1)", "v": "s_v"}, data=data, variables=variables, series=series)
        table = {"t": [2003, 2004, 2005], "x": [1.0, -9.0, 3.0], "y": [1.0, 2.0, 3.0]}
        history = {"t": [2001, 2002], "x": [-9.0, 7.0], "y": [0.0, 0.0]}
        joined = {"s": {"d": ["01.01.2003", "01.01.2004", "01.01.2005"], "v": [1.5, 2.5, -1.0]}}
        made = plan.build(table, history=history, series=joined)
        self.assertEqual((made.rows.kept.tolist(), made.X[:, 1:].tolist()), ([1, 2], [[7.0, 1.5], [1.0, 2.5]]))
        with self.assertRaisesRegex(fa.DataError, "variable 'vv' not found"):
            wrong = {"s": {**series["s"], "variables": {"vv": {"missing": [1]}}}}
            fa.Plan("y", {"v": "s_v"}, data=data, series=wrong, variables=variables).build(table, series=joined)
        ahead = fa.Plan("y", {"x": "x"}, data=data, variables={"x": {"missing": [-9]}})
        found = fa.forecast(ahead.build({**table, "x": [1.0, 4.0, 3.0]}), {**table, "x": [1.0, 4.0, 3.0]}, 2,
                            future={"t": [2006, 2007], "x": [2.0, -9.0]})  # fmt: skip
        self.assertEqual([each.period for each in found.of], ["2006"])

    def test_numbers_written_as_text_follow_the_plan_in_every_container(self) -> None:
        table = {"n": ["1,5", "950", "12,25"], "y": [1.0, 2.0, 4.0]}
        plan = fa.Plan("y", {"n": "n"}, data={"decimal": ","}, variables={"n": {"kind": "number"}})
        self.assertEqual(plan.build(table).X[:, 1].tolist(), [1.5, 950, 12.25])
        units = {"n": ["950", "1.065", "12.400"], "y": [1.0, 2.0, 4.0]}
        for data in ({}, {"decimal": ","}):
            with self.assertRaisesRegex(fa.DataError, "two ways|cannot be read"):
                fa.Plan("y", {"n": "n"}, data=data, variables={"n": {"kind": "number"}}).build(units)
        said = {"n": {"kind": "number", "decimal": "."}}
        self.assertEqual(fa.Plan("y", {"n": "n"}, variables=said).build(units).X[:, 1].tolist(), [950, 1.065, 12.4])
        grouped = {"n": {"kind": "number", "thousands": ".", "decimal": ","}}
        self.assertEqual(fa.Plan("y", {"n": "n"}, variables=grouped).build(units).X[:, 1].tolist(), [950, 1065, 12400])
        path = self.folder / "u.csv"
        path.write_text("y;units\n1,5;950\n2,5;1.065\n3,5;2.300\n4,1;870\n5,2;12.400\n6,5;640\n")
        told = command("profile", path, "--delimiter", ";", "--decimal", ",").stdout
        self.assertIn('thousands = "."', " ".join(told.split()))

    def test_remedies_name_variables_as_a_plan_file_takes_them(self) -> None:
        table = {"Betrag US": ["$1,200.50", "$900.00", "$12.25"], "y": [1.0, 2.0, 4.0]}
        told = fa.profile(table)["Betrag US"].notes
        self.assertTrue(any('[variables] "Betrag US" = {' in text for text in told), told)

    def test_the_pattern_advised_for_dates_is_one_that_reads_them(self) -> None:
        for texts, pattern in ((["03.02.2023", "17.04.2023"], "%d.%m.%Y"), (["3/2/23", "4/17/23"], "%m/%d/%y"),
                               (["2012.083", "2012.167"], "decimal year")):  # fmt: skip
            table = {"t": texts, "y": [1.0, 2.0]}
            plan = fa.Plan("y", {"b": "lag(y, 1)"}, data={"time": "t", "every": "month"})
            with self.assertRaises(fa.DataError) as caught:
                plan.build(table)
            self.assertIn(f'"{pattern}"', str(caught.exception))


if __name__ == "__main__":
    unittest.main()

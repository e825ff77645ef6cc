' Jobs, a line each: a workbook, a sheet, the rows to take out (from the last to the first, with commas between), and a file that gets
' what then is to be seen in the workbook, with tabs between.
Sub Jobs(list As String)
	Dim job As String
	On Error GoTo Failed
	n = FreeFile
	Open list For Input As #n
	Do While Not EOF(n)
		Line Input #n, job
		If job <> "" Then Work(Split(job, Chr(9)))
	Loop
	Close #n
	StarDesktop.terminate()
	Exit Sub
Failed:
	m = FreeFile
	Open list & ".failed" For Output As #m
	Print #m, Error() & " in line " & Erl() & ": " & job
	Close #m
	StarDesktop.terminate()
End Sub

Sub Work(words)
	Dim hidden(0) As New com.sun.star.beans.PropertyValue
	hidden(0).Name = "Hidden"
	hidden(0).Value = True
	doc = StarDesktop.loadComponentFromURL(ConvertToURL(words(0)), "_blank", 0, hidden())
	Rules(doc, words(3) & ".rules")
	If words(2) <> "" Then
		rows = Split(words(2), ",")
		For i = 0 To UBound(rows)
			doc.Sheets.getByName(words(1)).Rows.removeByIndex(CLng(rows(i)) - 1, 1)
		Next
	End If
	doc.calculateAll()
	out = FreeFile
	Open words(3) For Output As #out
	For Each sheet In doc.Sheets
		See(out, sheet)
	Next
	For Each called In doc.NamedRanges
		Print #out, "name " & called.Name & " = " & called.Content
	Next
	For Each area In doc.DatabaseRanges
		Print #out, "database " & area.Name & " = " & Place(area.DataArea)
	Next
	Close #out
	doc.close(True)
End Sub

' The formulas of the rules of a workbook.
Sub Rules(doc, file)
	out = FreeFile
	Open file For Output As #out
	For Each sheet In doc.Sheets
		cursor = sheet.createCursor()
		cursor.gotoEndOfUsedArea(False)
		a = cursor.RangeAddress
		For row = 0 To a.EndRow
			For col = 0 To a.EndColumn
				rule = sheet.getCellByPosition(col, row).Validation
				If rule.Type <> com.sun.star.sheet.ValidationType.ANY Then Print #out, rule.Type & " " & rule.getFormula1() & " " & rule.getFormula2()
			Next
		Next
	Next
	Close #out
End Sub

Function Place(a)
	Place = a.StartColumn & "," & a.StartRow & ":" & a.EndColumn & "," & a.EndRow
End Function

Sub See(out, sheet)
	cursor = sheet.createCursor()
	cursor.gotoEndOfUsedArea(False)
	a = cursor.RangeAddress
	For row = 0 To a.EndRow
		For col = 0 To a.EndColumn
			cell = sheet.getCellByPosition(col, row)
			at = sheet.Name & " " & col & "," & row & " "
			If cell.Type <> com.sun.star.table.CellContentType.EMPTY Then Print #out, at & cell.Formula & " -> " & cell.String
			rule = cell.Validation
			If rule.Type <> com.sun.star.sheet.ValidationType.ANY Then
				rule.setSourcePosition(cell.CellAddress)
				Print #out, at & "rule " & rule.Type & " " & rule.getFormula1() & " " & rule.getFormula2()
			End If
			merged = sheet.createCursorByRange(cell)
			merged.collapseToMergedArea()
			If merged.Columns.Count > 1 Or merged.Rows.Count > 1 Then Print #out, at & "merged " & Place(merged.RangeAddress)
			If cell.Type = com.sun.star.table.CellContentType.TEXT Then
				fields = cell.TextFields
				For i = 0 To fields.Count - 1
					Print #out, at & "link " & fields.getByIndex(i).URL
				Next
			End If
		Next
	Next
	For Each note In sheet.Annotations
		Print #out, sheet.Name & " note " & note.Position.Column & "," & note.Position.Row & " " & note.String
	Next
	For Each shown In sheet.ConditionalFormats.getConditionalFormats()
		For i = 0 To shown.Count - 1
			entry = shown.getByIndex(i)
			If entry.Type = 0 Then Print #out, sheet.Name & " format " & shown.Range.RangeAddressesAsString & " " & entry.Formula1
		Next
	Next
	For Each area In sheet.getPrintAreas()
		Print #out, sheet.Name & " print " & Place(area)
	Next
	For Each chart In sheet.Charts
		For Each span In chart.Ranges
			Print #out, sheet.Name & " chart " & Place(span)
		Next
	Next
End Sub

{{- define "labels" }}
app: {{ .Chart.Name }}
owner: ticketing
{{- end }}

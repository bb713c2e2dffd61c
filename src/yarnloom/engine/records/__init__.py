"""What queries and commands answer with: frozen records, a file a noun.

Owns no behaviour. Times are whole microseconds since 1970 UTC, states are enums, texts of tasks are
masked. `service/render` makes the answers of the API of them. May import `rules` and `plan`, for
types. A new answer gets its record here, its model in `protocol/`, and a line in
`service/render/answers.py`.
"""

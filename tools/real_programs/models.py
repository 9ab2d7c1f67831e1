from pydantic import BaseModel, ValidationError, field_validator

checked = 0


class Reading(BaseModel):
    level: float
    station: str

    @field_validator("level")
    @classmethod
    def not_negative(cls, value):
        global checked
        checked += 1
        if value < 0:
            raise ValueError("negative")
        return value


good = bad = 0
for n in range(300):
    try:
        good += bool(Reading(level=n - 20, station="s").model_dump_json())
    except ValidationError:
        bad += 1
print(good, bad, f"\nCOUNT Reading.not_negative={checked}")

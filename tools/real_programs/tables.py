from sqlalchemy import ForeignKey, create_engine, event, select
from sqlalchemy.orm import DeclarativeBase, Mapped, Session, mapped_column, relationship


class Base(DeclarativeBase):
    pass


class Port(Base):
    __tablename__ = "ports"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    ships: Mapped[list["Ship"]] = relationship()


class Ship(Base):
    __tablename__ = "ships"
    id: Mapped[int] = mapped_column(primary_key=True)
    port_id: Mapped[int] = mapped_column(ForeignKey("ports.id"))


loaded = 0


@event.listens_for(Ship, "load")
def on_load(target, context):
    global loaded
    loaded += 1


engine = create_engine("sqlite://")
Base.metadata.create_all(engine)
with Session(engine) as session:
    session.add_all(Port(name=f"p{n}", ships=[Ship() for _ in range(5)]) for n in range(60))
    session.commit()
with Session(engine) as session:
    print(sum(len(port.ships) for port in session.scalars(select(Port))))
print(f"COUNT on_load={loaded}")
